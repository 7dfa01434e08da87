"""Reads the IP packets of a capture with their times, as far as possible, and reports unusable parts.

It knows the headers of the common link types: Ethernet with VLAN tags (IEEE 802.1Q) and PPPoE (RFC 2516), the kernel's
own (SLL), loopback, and raw IP. Files compressed with gzip (RFC 1952) are unpacked.
"""

import gzip
import zlib
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO, NamedTuple

from wily_sluice.engine.classify.header import parse
from wily_sluice.sorting.frames import BrokenError, Frames, NoCaptureError
from wily_sluice.units import SECOND, Nanoseconds

ETHERNET, LOOPBACK, RAW, COOKED, COOKED_2 = 1, 0, (12, 14, 101, 228, 229), 113, 276
LINKS = (ETHERNET, LOOPBACK, *RAW, COOKED, COOKED_2)
_IP = (0x0800, 0x86DD)
_TAGS = (0x8100, 0x88A8)
_PPPOE = 0x8864
_PPP_IP = (0x0021, 0x0057)
_GZIP = b"\x1f\x8b"
LAST_MOMENT: Nanoseconds = 253_402_214_400 * SECOND  # the last day of the year 9999
MOST_HEADERS = 60  # bytes, of IPv4; the 40 of IPv6 and some of its extensions fit as well


class Captured(NamedTuple):
    """`packet` is an IP packet's first bytes, empty for a frame that holds none; `frame` is the frame's length."""

    now: Nanoseconds
    packet: bytes
    hardware: bytes
    frame: int


class CaptureError(ValueError):
    """The file is not a capture."""


@dataclass(slots=True)
class Shortfall:
    """The unusable parts of a capture; all counts are of packets, `links` by link type.

    `broken`: the file is truncated; `short`: packets were cut within their headers; `timeless`: their time is missing
    or not a calendar time, so they count as simultaneous with the previous packet.
    """

    packets: int = 0
    broken: bool = False
    short: int = 0
    timeless: int = 0
    without: int = 0
    links: "Counter[int]" = field(default_factory=Counter)

    def sentences(self) -> list[str]:
        """In words, one for each."""
        words = []
        if self.broken:
            words.append(f"The file is cut short after packet {self.packets:,}.")
        if self.short:
            words.append(f"{self.short:,} packets were captured without their whole headers, and are left out.")
        if self.timeless:
            words.append(f"{self.timeless:,} packets have no usable time: each is taken to come with the one before.")
        if self.without:
            words.append(
                f"{self.without:,} packets are of interfaces that the file does not describe, and are left out."
            )
        for link, count in sorted(self.links.items()):
            words.append(f"{count:,} frames are of link type {link}, which is not supported, and are left out.")
        return words


def _ip(frame: bytes, link: int) -> bytes:
    """The IP packet in a frame; empty when there is none."""
    if link in RAW:
        return frame
    if link == LOOPBACK:
        return frame[4:]
    if link == COOKED:
        return frame[16:] if int.from_bytes(frame[14:16]) in _IP else b""
    if link == COOKED_2:
        return frame[20:] if int.from_bytes(frame[:2]) in _IP else b""
    offset = 12
    while (kind := int.from_bytes(frame[offset : offset + 2])) in _TAGS:
        offset += 4
    if kind == _PPPOE:
        offset += 6
        return frame[offset + 4 :] if int.from_bytes(frame[offset + 2 : offset + 4]) in _PPP_IP else b""
    return frame[offset + 2 :] if kind in _IP else b""


def _open(path: Path) -> BinaryIO:
    """The file, unpacked if necessary. CaptureError if it cannot be a capture."""
    file = path.open("rb")
    begin = file.read(512)
    file.seek(0)
    if begin[:2] == _GZIP:
        return gzip.GzipFile(fileobj=file)  # type: ignore[return-value]  # reads as one does
    if not begin:
        file.close()
        raise CaptureError("is empty: a capture is a pcap or pcapng file")
    return file


def read(path: Path, shortfall: Shortfall | None = None) -> Iterator[Captured]:
    """The packets of a file, in order, as far as possible; unusable parts are noted in `shortfall`.

    CaptureError if it is no capture, OSError if it cannot be opened.
    """
    missing = shortfall if shortfall is not None else Shortfall()
    with _open(path) as file:
        frames = Frames(file)
        now: Nanoseconds = 0
        try:
            for frame in frames:
                missing.packets += 1
                if frame.link not in LINKS:
                    missing.links[frame.link] += 1
                    continue
                if frame.now is None or not 0 <= frame.now < LAST_MOMENT:
                    missing.timeless += 1
                else:
                    now = frame.now
                packet = _ip(frame.data, frame.link)
                if len(frame.data) < frame.length and (len(packet) < MOST_HEADERS) and _is_short(packet, frame.data):
                    missing.short += 1
                    continue
                hardware = frame.data[6:12] if frame.link == ETHERNET else b""
                yield Captured(now, packet, hardware, len(frame.data))
        except NoCaptureError:
            raise CaptureError(f"{_what_it_is(path)}: a capture is a pcap or pcapng file") from None
        except (BrokenError, EOFError, zlib.error, gzip.BadGzipFile):
            missing.broken = True
        finally:
            missing.without = frames.without


def _is_short(packet: bytes, frame: bytes) -> bool:
    """Whether the beginning of a frame is too little to tell whose it is."""
    if not packet:
        return len(frame) < 22  # whether it holds IP cannot be seen: an Ethernet header with two tags
    if packet[0] >> 4 == 4:
        return len(packet) < (packet[0] & 15) * 4 + 4
    return packet[0] >> 4 == 6 and (len(packet) < 44 or parse(packet, True) is None)


def _what_it_is(path: Path) -> str:
    with path.open("rb") as file:
        begin = file.read(512)
    try:
        begin[:-4].decode()
    except UnicodeDecodeError:
        return "is not a capture"
    return "is a text file" if b"\0" not in begin else "is not a capture"

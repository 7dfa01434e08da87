"""Captures: frames of pcap and pcapng, and the IP packets in them.

The frames of a capture file, pcap or pcapng, as far as possible.

Sources: draft-ietf-opsawg-pcap, and draft-ietf-opsawg-pcapng: sections of either byte order (§4.1), each with
interfaces that have their own link type, time resolution and offset (§4.2); enhanced, simple and the old packet blocks
(§4.3, §4.4, §B.1). Other blocks are skipped.

Reads the IP packets of a capture with their times, as far as possible, and reports unusable parts.

It knows the headers of the common link types: Ethernet with VLAN tags (IEEE 802.1Q) and PPPoE (RFC 2516), the kernel's
own (SLL), loopback, and raw IP. Files compressed with gzip (RFC 1952) are unpacked.
"""

import gzip
import struct
import zlib
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO, Final, NamedTuple

from wily_sluice.engine.classify.header import parse
from wily_sluice.units import SECOND, Nanoseconds, Size

LARGEST: Final[Size] = 16 << 20  # bytes of a block or a frame: more than this is a broken length
_PCAP = {b"\xa1\xb2\xc3\xd4": (">", 1000), b"\xd4\xc3\xb2\xa1": ("<", 1000),
         b"\xa1\xb2\x3c\x4d": (">", 1), b"\x4d\x3c\xb2\xa1": ("<", 1)}  # fmt: skip
_SECTION = b"\n\r\r\n"
_ORDERS = {b"\x1a\x2b\x3c\x4d": ">", b"\x4d\x3c\x2b\x1a": "<"}
_INTERFACE, _OLD_PACKET, _SIMPLE, _ENHANCED = 1, 2, 3, 6
_RESOLUTION, _OFFSET = 9, 14  # options of an interface


class Frame(NamedTuple):
    """`link` is the link type; `length` the frame's length on the wire, and `data` its beginning.

    `now` is in nanoseconds since 1970, None if the file does not say.
    """

    now: Nanoseconds | None
    link: int
    data: bytes
    length: Size


class NoCaptureError(ValueError):
    """The file does not begin as a capture does."""


class BrokenError(ValueError):
    """The file breaks off, or cannot be followed any further."""


@dataclass(slots=True)
class _Interface:
    link: int
    snap: Size
    unit: Nanoseconds | None = 1000  # how long a step of the clock is; None if it is not a whole number
    steps: int = 1_000_000  # in a second
    offset: int = 0  # seconds

    def time(self, high: int, low: int) -> Nanoseconds:
        count = high << 32 | low
        passed = count * self.unit if self.unit is not None else count * SECOND // self.steps
        return passed + self.offset * SECOND


@dataclass(slots=True)
class Frames:
    """Those of an open file, in its order. NoCaptureError at once; BrokenError when all that can be read was read.

    `without` counts packets of interfaces that the file does not describe.
    """

    file: BinaryIO
    without: int = 0
    _order: str = "<"
    _interfaces: list[_Interface] = field(default_factory=list)

    def __iter__(self) -> Iterator[Frame]:
        magic = self.file.read(4)
        if magic in _PCAP:
            return self._pcap(*_PCAP[magic])
        if magic == _SECTION:
            return self._pcapng()
        raise NoCaptureError

    def _exactly(self, size: Size) -> bytes:
        data = self.file.read(size)
        if len(data) < size:
            raise BrokenError
        return data

    def _pcap(self, order: str, unit: Nanoseconds) -> Iterator[Frame]:
        *_, link = struct.unpack(f"{order}HHiIII", self._exactly(20))
        head = struct.Struct(f"{order}IIII")
        while first := self.file.read(16):
            if len(first) < 16:
                raise BrokenError
            seconds, part, size, length = head.unpack(first)
            if size > LARGEST:
                raise BrokenError
            # Of the link type, the upper bits say how long a frame's check is.
            yield Frame(seconds * SECOND + part * unit, link & 0xFFFF, self._exactly(size), length)

    def _pcapng(self) -> Iterator[Frame]:
        self._section()
        while first := self.file.read(4):
            if first == _SECTION:
                self._section()
                continue
            if len(first) < 4:
                raise BrokenError
            kind = struct.unpack(f"{self._order}I", first)[0]
            body = self._body(4)
            if kind == _INTERFACE:
                self._describe(body)
            elif kind in (_ENHANCED, _OLD_PACKET, _SIMPLE):
                frame = self._packet(kind, body)
                if frame is not None:
                    yield frame

    def _section(self) -> None:
        size, magic = self._exactly(4), self._exactly(4)
        if magic not in _ORDERS:
            raise BrokenError
        self._order = _ORDERS[magic]
        self._interfaces = []
        self._exactly(self._length(size) - 12)

    def _length(self, size: bytes) -> Size:
        length: int = struct.unpack(f"{self._order}I", size)[0]
        if not 12 <= length <= LARGEST or length % 4:
            raise BrokenError
        return length

    def _body(self, before: Size) -> bytes:
        return self._exactly(self._length(self._exactly(4)) - before - 4)[:-4]

    def _describe(self, body: bytes) -> None:
        if len(body) < 8:
            raise BrokenError
        link, snap = struct.unpack_from(f"{self._order}HxxI", body)
        interface = _Interface(link, snap)
        offset = 8
        while offset + 4 <= len(body):
            kind, size = struct.unpack_from(f"{self._order}HH", body, offset)
            value = body[offset + 4 : offset + 4 + size]
            if not kind:
                break
            if kind == _RESOLUTION and value:
                exponent = value[0] & 0x7F
                interface.steps = 1 << exponent if value[0] & 0x80 else 10**exponent
                interface.unit = SECOND // interface.steps if SECOND % interface.steps == 0 else None
            elif kind == _OFFSET and len(value) == 8:
                interface.offset = struct.unpack(f"{self._order}q", value)[0]
            offset += 4 + (size + 3 & ~3)
        self._interfaces.append(interface)

    def _packet(self, kind: int, body: bytes) -> Frame | None:
        form, start = {_ENHANCED: ("IIIII", 20), _OLD_PACKET: ("HxxIIII", 20), _SIMPLE: ("I", 4)}[kind]
        if len(body) < start:
            raise BrokenError
        values = struct.unpack_from(self._order + form, body)
        number = values[0] if kind != _SIMPLE else 0
        if number >= len(self._interfaces):
            self.without += 1
            return None
        interface = self._interfaces[number]
        if kind == _SIMPLE:
            size = min(values[0], interface.snap or LARGEST)
            return Frame(None, interface.link, body[start : start + size], values[0])
        _, high, low, size, length = values
        return Frame(interface.time(high, low), interface.link, body[start : start + size], length)


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

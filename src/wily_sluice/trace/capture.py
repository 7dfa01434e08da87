"""Reads a capture, pcap or pcapng, into IP packets with their times.

A library reads the files; here is what stands around an IP packet on the common kinds of links: Ethernet with VLAN tags
(IEEE 802.1Q) and PPPoE (RFC 2516), the kernel's own (SLL), loopback, and none at all.
"""

from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO, NamedTuple

import dpkt

from wily_sluice.units import SECOND, Nanoseconds

ETHERNET, LOOPBACK, RAW, COOKED, COOKED_2 = 1, 0, (12, 14, 101, 228, 229), 113, 276
_IP = (0x0800, 0x86DD)
_TAGS = (0x8100, 0x88A8)
_PPPOE = 0x8864
_PPP_IP = (0x0021, 0x0057)


class Captured(NamedTuple):
    """`packet` is an IP packet's first bytes, empty for a frame that holds none; `frame` is the frame's length."""

    now: Nanoseconds
    packet: bytes
    hardware: bytes
    frame: int


class CaptureError(ValueError):
    """The file is no capture, or breaks off."""


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
    place = 12
    while (kind := int.from_bytes(frame[place : place + 2])) in _TAGS:
        place += 4
    if kind == _PPPOE:
        place += 6
        return frame[place + 4 :] if int.from_bytes(frame[place + 2 : place + 4]) in _PPP_IP else b""
    return frame[place + 2 :] if kind in _IP else b""


def _reader(file: BinaryIO) -> "dpkt.pcap.Reader | dpkt.pcapng.Reader":
    try:
        return dpkt.pcap.UniversalReader(file)
    except (ValueError, dpkt.dpkt.Error) as error:
        raise CaptureError("is no capture: it must be pcap or pcapng") from error


def read(path: Path) -> Iterator[Captured]:
    """The packets of a file, in its order. CaptureError for what cannot be read, OSError for what cannot be opened."""
    with path.open("rb") as file:
        reader = _reader(file)
        link = reader.datalink()
        if link not in (ETHERNET, LOOPBACK, *RAW, COOKED, COOKED_2):
            raise CaptureError(f"has frames of a kind that is not known here (link type {link})")
        packets = iter(reader)
        count = 0
        while True:
            try:
                time, frame = next(packets)
            except StopIteration:
                return
            except (ValueError, dpkt.dpkt.Error) as error:
                raise CaptureError(f"breaks off behind packet {count}") from error
            count += 1
            hardware = frame[6:12] if link == ETHERNET else b""
            yield Captured(round(float(time) * SECOND), _ip(frame, link), hardware, len(frame))

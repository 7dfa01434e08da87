"""The frames of a capture file, pcap or pcapng, as far as possible.

Sources: draft-ietf-opsawg-pcap, and draft-ietf-opsawg-pcapng: sections of either byte order (§4.1), each with
interfaces that have their own link type, time resolution and offset (§4.2); enhanced, simple and the old packet blocks
(§4.3, §4.4, §B.1). Other blocks are skipped.
"""

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import BinaryIO, Final, NamedTuple

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

"""Echoes of ICMP (RFC 792, RFC 4443 §4): requests, and what answers say."""

import socket
import struct
from typing import Final, NamedTuple

_ECHO: Final = struct.Struct("!BBHHH")
_ASKS: Final = {socket.AF_INET: 8, socket.AF_INET6: 128}
_ANSWERS: Final = {socket.AF_INET: 0, socket.AF_INET6: 129}
_PROTOCOLS: Final = {socket.AF_INET: socket.IPPROTO_ICMP, socket.AF_INET6: socket.IPPROTO_ICMPV6}


class Answer(NamedTuple):
    """The request that is answered, by sender and sequence number."""

    identifier: int
    sequence: int


def checksum(data: bytes) -> int:
    """The Internet checksum (RFC 1071)."""
    data += bytes(len(data) & 1)
    total: int = sum(struct.unpack(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def family_of(address: str) -> socket.AddressFamily:
    """Of an address as it is written."""
    return socket.AF_INET6 if ":" in address else socket.AF_INET


def echo_socket(family: socket.AddressFamily) -> socket.socket:
    """A socket that does not wait. OSError where this machine does not let us."""
    end = socket.socket(family, socket.SOCK_RAW, _PROTOCOLS[family])
    end.setblocking(False)
    return end


def request(family: socket.AddressFamily, identifier: int, sequence: int) -> bytes:
    """A request. Of ICMPv6, the kernel works out the checksum."""
    message = _ECHO.pack(_ASKS[family], 0, 0, identifier, sequence)
    if family == socket.AF_INET:
        message = _ECHO.pack(_ASKS[family], 0, checksum(message), identifier, sequence)
    return message


def parse_answer(family: socket.AddressFamily, data: bytes) -> Answer | None:
    """Parse the data of such a socket; None if it is no answer. IPv4 answers include the IP header."""
    start = (data[0] & 15) * 4 if family == socket.AF_INET and data else 0
    if len(data) < start + _ECHO.size:
        return None
    kind, _, _, identifier, sequence = _ECHO.unpack_from(data, start)
    return Answer(identifier, sequence) if kind == _ANSWERS[family] else None

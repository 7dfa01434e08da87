"""Echoes of ICMP (RFC 792, RFC 4443 §4): requests, and what answers say."""

import os
import socket
import struct
from ctypes import addressof, create_string_buffer
from typing import Final, NamedTuple

SO_ATTACH_FILTER: Final = 26  # asm-generic/socket.h
_ECHO: Final = struct.Struct("!BBHHH")
_ASKS: Final = {socket.AF_INET: 8, socket.AF_INET6: 128}
_ANSWERS: Final = {socket.AF_INET: 0, socket.AF_INET6: 129}
_PROTOCOLS: Final = {socket.AF_INET: socket.IPPROTO_ICMP, socket.AF_INET6: socket.IPPROTO_ICMPV6}


class Nonce(NamedTuple):
    """What marks requests as ours: drawn at random, so that those of two processes differ and no stranger knows it."""

    identifier: int
    data: bytes

    @classmethod
    def drawn(cls) -> "Nonce":
        """A new one."""
        return cls(int.from_bytes(os.urandom(2)), os.urandom(8))


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


def _filter(family: socket.AddressFamily, identifier: int) -> list[tuple[int, int, int, int]]:
    """Only answers with this identifier, as the kernel's packet filter reads it: so a stranger who sends answers by the
    thousand does not wake us. IPv4 data begins with the IP header, whose length is put into X (0xb1).
    """
    if family == socket.AF_INET:
        loads = [(0xB1, 0, 0, 0), (0x50, 0, 0, 0)], (0x48, 0, 0, 4)
    else:
        loads = [(0x30, 0, 0, 0)], (0x28, 0, 0, 4)
    kind, number = (0x15, 0, 3, _ANSWERS[family]), (0x15, 0, 1, identifier)
    return [*loads[0], kind, loads[1], number, (6, 0, 0, 4096), (6, 0, 0, 0)]


def attach_filter(end: socket.socket, steps: list[tuple[int, int, int, int]]) -> None:
    """Let only packets through that a classic packet filter accepts (socket(7)). OSError."""
    program = create_string_buffer(b"".join(struct.pack("=HBBI", *step) for step in steps))
    end.setsockopt(socket.SOL_SOCKET, SO_ATTACH_FILTER, struct.pack("@HP", len(steps), addressof(program)))


def echo_socket(family: socket.AddressFamily, nonce: Nonce) -> socket.socket:
    """A socket for answers to our requests, which does not wait. OSError where this machine does not let us."""
    end = socket.socket(family, socket.SOCK_RAW, _PROTOCOLS[family])
    try:
        attach_filter(end, _filter(family, nonce.identifier))
        end.setblocking(False)
    except OSError:
        end.close()
        raise
    return end


def request(family: socket.AddressFamily, nonce: Nonce, sequence: int) -> bytes:
    """A request. Of ICMPv6, the kernel works out the checksum."""
    message = _ECHO.pack(_ASKS[family], 0, 0, nonce.identifier, sequence) + nonce.data
    if family == socket.AF_INET:
        message = _ECHO.pack(_ASKS[family], 0, checksum(message), nonce.identifier, sequence) + nonce.data
    return message


def parse_answer(family: socket.AddressFamily, data: bytes, nonce: Nonce) -> int | None:
    """The number of the request of ours that the data of such a socket answers; None if it does not."""
    start = (data[0] & 15) * 4 if family == socket.AF_INET and data else 0
    if len(data) < start + _ECHO.size:
        return None
    kind, _, _, identifier, sequence = _ECHO.unpack_from(data, start)
    ours = kind == _ANSWERS[family] and identifier == nonce.identifier and data[start + _ECHO.size :] == nonce.data
    return int(sequence) if ours else None

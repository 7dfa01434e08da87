"""The messages of NAT-PMP (RFC 6886), the predecessor of PCP on the same port."""

import struct
from dataclasses import dataclass
from enum import IntEnum
from typing import Final

from wily_sluice.engine.classify.header import TCP, UDP

VERSION: Final = 0
ADDRESS: Final = 0
OPCODES: Final = {1: UDP, 2: TCP}
ANSWER: Final = 128
_WISH: Final = struct.Struct("!BBHHHI")  # §3.3
_HEAD: Final = struct.Struct("!BBHI")


class Result(IntEnum):
    """What became of a request (§3.5)."""

    SUCCESS = 0
    UNSUPPORTED_VERSION = 1
    NOT_AUTHORIZED = 2
    NETWORK_FAILURE = 3
    OUT_OF_RESOURCES = 4
    UNSUPPORTED_OPCODE = 5


@dataclass(frozen=True, slots=True)
class AddressRequest:
    """The question for the address outside."""


@dataclass(frozen=True, slots=True)
class WishRequest:
    """A wish for a mapping, of `lifetime` seconds; 0 to end it."""

    opcode: int
    inside: int
    outside: int
    lifetime: int

    @property
    def protocol(self) -> int:
        """By its number (IANA)."""
        return OPCODES[self.opcode]


def parse(data: bytes) -> AddressRequest | WishRequest | Result | None:
    """Read a request. A result says why it is answered with an error; None is not answered at all."""
    if len(data) < 2 or data[0] != VERSION or data[1] >= ANSWER:
        return None
    if data[1] == ADDRESS:
        return AddressRequest()
    if data[1] not in OPCODES:
        return Result.UNSUPPORTED_OPCODE
    if len(data) < _WISH.size:
        return None
    _, opcode, _, inside, outside, lifetime = _WISH.unpack_from(data)
    return WishRequest(opcode, inside, outside, lifetime)


def _head(opcode: int, result: Result, epoch: int) -> bytes:
    return _HEAD.pack(VERSION, ANSWER + opcode, result, epoch & 0xFFFFFFFF)


def address(external: bytes, epoch: int) -> bytes:
    """The address outside (§3.2), whether asked for or not."""
    return _head(ADDRESS, Result.SUCCESS, epoch) + external


def answer(request: WishRequest, lifetime: int, outside: int, epoch: int) -> bytes:
    """That there is a mapping now, for so many seconds; or none, for 0 (§3.3, §3.4)."""
    return _head(request.opcode, Result.SUCCESS, epoch) + struct.pack("!HHI", request.inside, outside, lifetime)


def refusal(request: bytes, result: Result, epoch: int) -> bytes:
    """An error (§3.5): repeats the request with no lifetime."""
    opcode = request[1]
    head = _head(opcode, result, epoch)
    if opcode == ADDRESS:
        return head + bytes(4)
    if opcode in OPCODES:
        return head + request[4:8] + bytes(4)
    return head

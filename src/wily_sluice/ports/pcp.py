"""The messages of PCP (RFC 6887), as a server reads and writes them: MAP and ANNOUNCE, PREFER_FAILURE and FILTER.

PEER and THIRD_PARTY are not served, which the RFC leaves to a server (§12, §13.1).
"""

import struct
from dataclasses import dataclass
from enum import IntEnum
from typing import Final

VERSION: Final = 2
SERVER_PORT, CLIENT_PORT = 5351, 5350  # §19.1; clients hear announcements at theirs
MOST: Final = 1100  # bytes of a message (§7)
RESPONSE: Final = 0x80  # of the byte that holds the opcode
ANNOUNCE, MAP = 0, 1
OPTIONAL: Final = 128  # options from here on may be ignored (§7.3)
THIRD_PARTY, PREFER_FAILURE, FILTER = 1, 2, 3
_REQUEST: Final = struct.Struct("!BBHI16s")  # §7.1
_RESPONSE: Final = struct.Struct("!BBBBII12x")  # §7.2
_MAP: Final = struct.Struct("!12sB3xHH16s")  # §11.1
_OPTION: Final = struct.Struct("!BBH")  # §7.3
_FILTER: Final = struct.Struct("!xBH16s")  # §13.3
MAPPED: Final = bytes(10) + b"\xff\xff"  # before an IPv4 address (RFC 4291 §2.5.5.2)


class Result(IntEnum):
    """What became of a request (§7.4)."""

    SUCCESS = 0
    UNSUPP_VERSION = 1
    NOT_AUTHORIZED = 2
    MALFORMED_REQUEST = 3
    UNSUPP_OPCODE = 4
    UNSUPP_OPTION = 5
    MALFORMED_OPTION = 6
    NETWORK_FAILURE = 7
    NO_RESOURCES = 8
    UNSUPP_PROTOCOL = 9
    USER_EX_QUOTA = 10
    CANNOT_PROVIDE_EXTERNAL = 11
    ADDRESS_MISMATCH = 12
    EXCESSIVE_REMOTE_PEERS = 13


# For so many seconds a client need not ask again (§7.4: short and long).
SHORT, LONG = 30, 1800
PASSING: Final = {
    Result.NETWORK_FAILURE,
    Result.NO_RESOURCES,
    Result.USER_EX_QUOTA,
    Result.CANNOT_PROVIDE_EXTERNAL,
}


@dataclass(frozen=True, slots=True)
class Filter:
    """Remotes that alone may use a mapping: the first `length` bits of an address, and a port; 0 for any."""

    address: bytes
    length: int
    port: int


@dataclass(frozen=True, slots=True)
class MapRequest:
    """A request for a mapping, of `lifetime` seconds; 0 to end it. `options` are repeated in the answer.

    `anew` means that `filters` replace the earlier ones.
    """

    lifetime: int
    client: bytes
    nonce: bytes
    protocol: int
    inside: int
    outside: int
    external: bytes
    prefer_failure: bool = False
    filters: tuple[Filter, ...] = ()
    anew: bool = False
    options: bytes = b""


@dataclass(frozen=True, slots=True)
class AnnounceRequest:
    """The question whether the server still has its state."""

    client: bytes


def unpack_address(field: bytes) -> bytes:
    """An address in a message, as 16 bytes: 4 bytes of IPv4, or 16."""
    return field[12:] if field[:12] == MAPPED else field


def pack_address(address: bytes) -> bytes:
    """The other way round."""
    return MAPPED + address if len(address) == 4 else address


def parse(data: bytes) -> MapRequest | AnnounceRequest | Result | None:
    """Read a request (§8.3). A result says why it is answered with an error; None is not answered at all."""
    if len(data) < 2 or data[1] & RESPONSE:
        return None
    if data[0] != VERSION:
        return Result.UNSUPP_VERSION
    opcode = data[1]
    if opcode not in (ANNOUNCE, MAP):
        return Result.UNSUPP_OPCODE
    least = _REQUEST.size + (_MAP.size if opcode == MAP else 0)
    if not least <= len(data) <= MOST or len(data) % 4:
        return Result.MALFORMED_REQUEST
    _, _, _, lifetime, client = _REQUEST.unpack_from(data)
    options = _parse_options(data[least:], opcode)
    if isinstance(options, Result):
        return options
    if opcode == ANNOUNCE:
        return AnnounceRequest(unpack_address(client))
    nonce, protocol, inside, outside, external = _MAP.unpack_from(data, _REQUEST.size)
    if not protocol and inside:
        return Result.MALFORMED_REQUEST  # §11.1: all protocols have no port
    external = unpack_address(external)
    return MapRequest(lifetime, unpack_address(client), nonce, protocol, inside, outside, external, *options)


def _parse_options(data: bytes, opcode: int) -> tuple[bool, tuple[Filter, ...], bool, bytes] | Result:
    """Whether failure is preferred, the filters, whether they replace earlier ones, and the options to repeat."""
    prefer_failure, anew, repeated = False, False, b""
    filters: list[Filter] = []
    start = 0
    while start < len(data):
        if len(data) - start < _OPTION.size:
            return Result.MALFORMED_OPTION
        code, _, length = _OPTION.unpack_from(data, start)
        value = data[start + _OPTION.size : start + _OPTION.size + length]
        end = start + _OPTION.size + (length + 3) // 4 * 4
        if len(value) < length or end > len(data):
            return Result.MALFORMED_OPTION
        if code == PREFER_FAILURE and opcode == MAP:
            if length or prefer_failure:
                return Result.MALFORMED_OPTION
            prefer_failure = True
        elif code == FILTER and opcode == MAP:
            if length != _FILTER.size:
                return Result.MALFORMED_OPTION
            bits, port, field = _FILTER.unpack(value)
            if not bits:
                anew, filters = True, []
            else:
                address = unpack_address(field)
                bits -= 128 - 8 * len(address)
                if not 0 <= bits <= 8 * len(address):
                    return Result.MALFORMED_OPTION
                filters.append(Filter(address, bits, port))
        elif code < OPTIONAL:
            return Result.UNSUPP_OPTION
        if code < OPTIONAL:
            repeated += data[start:end]
        start = end
    return prefer_failure, tuple(filters), anew, repeated


def refusal(request: bytes, result: Result, epoch: int) -> bytes:
    """An error (§7.2, §8.3): the request after a new header."""
    lifetime = SHORT if result in PASSING else LONG
    rest = request[_RESPONSE.size : MOST]
    head = _RESPONSE.pack(VERSION, RESPONSE | request[1], 0, result, lifetime, epoch & 0xFFFFFFFF)
    return (head + rest + bytes(-len(rest) % 4))[:MOST]


def answer(request: MapRequest, lifetime: int, outside: int, external: bytes, epoch: int) -> bytes:
    """That there is a mapping now, for so many seconds; or none, for 0."""
    head = _RESPONSE.pack(VERSION, RESPONSE | MAP, 0, Result.SUCCESS, lifetime, epoch & 0xFFFFFFFF)
    body = _MAP.pack(request.nonce, request.protocol, request.inside, outside, pack_address(external))
    return head + body + request.options


def announcement(epoch: int) -> bytes:
    """That the server's state began at that many seconds ago, whether asked or not (§14.1)."""
    return _RESPONSE.pack(VERSION, RESPONSE | ANNOUNCE, 0, Result.SUCCESS, 0, epoch & 0xFFFFFFFF)

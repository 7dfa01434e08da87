"""Test packets of the Simple Two-Way Active Measurement Protocol, in authenticated mode.

Source: RFC 8762 §4.2.2 (sender packets), §4.3.2 (reflector packets), §4.4 (integrity: the first 16 bytes of an
HMAC-SHA-256 over the preceding 96). Timestamps are NTP's (RFC 5905 §6): seconds since 1900 and a fraction of 2^-32. A
packet may be longer, with a padding that is returned. No clock and no socket: the caller passes times, in ns since
1970.
"""

import hmac
import struct
from hashlib import sha256
from typing import Final, NamedTuple

from wily_sluice.units import SECOND, Nanoseconds, Size

PORT: Final = 862  # of the IANA registry
LENGTH: Final[Size] = 112
SIGNED: Final[Size] = 96
DIGEST: Final[Size] = 16
LONGEST: Final[Size] = 9000
SHORTEST_KEY: Final[Size] = 16
_EPOCH: Final = 2_208_988_800  # seconds from 1900 to 1970
_SENT = struct.Struct("!I12xQH70x")
_REFLECTED = struct.Struct("!I12xQH6xQ8xI12xQH6xB15x")
# RFC 4656 §4.1.2: S, whether the clock is synchronized to UTC; Z, 0 for NTP's timestamps; scale; multiplier, never 0.
# Here it is not synchronized, and good to 2^-32 × 2^12 × 1 s, about a microsecond.
ERROR_ESTIMATE: Final = 12 << 8 | 1


class Sent(NamedTuple):
    """A sender's packet: its number, and when it was sent."""

    sequence: int
    at: Nanoseconds


class Reflected(NamedTuple):
    """A reflector's packet: its own number and times, and its copy of the sender's."""

    sequence: int
    at: Nanoseconds
    received: Nanoseconds
    sender_sequence: int
    sender_at: Nanoseconds
    sender_ttl: int


class MalformedError(ValueError):
    """Bytes that are no valid packet, or not signed with the key."""


def ntp(at: Nanoseconds) -> int:
    """A moment in NTP's 64 bits."""
    seconds, rest = divmod(at, SECOND)
    return (seconds + _EPOCH & 0xFFFFFFFF) << 32 | (rest << 32) // SECOND


def from_ntp(stamp: int) -> Nanoseconds:
    """The moment of a timestamp, rounded to a nanosecond; from 1970 to 2106."""
    seconds = (stamp >> 32) - _EPOCH & 0xFFFFFFFF
    return seconds * SECOND + ((stamp & 0xFFFFFFFF) * SECOND + (1 << 31) >> 32)


def _signed(body: bytes, key: bytes, padding: bytes) -> bytes:
    return body + hmac.digest(key, body, sha256)[:DIGEST] + padding


def _checked(data: bytes, key: bytes) -> bytes:
    """The signed part of a packet. MalformedError when it has the wrong length or signature."""
    if not LENGTH <= len(data) <= LONGEST:
        raise MalformedError(f"a packet has {LENGTH} to {LONGEST} bytes, not {len(data)}")
    body = data[:SIGNED]
    if not hmac.compare_digest(data[SIGNED:LENGTH], hmac.digest(key, body, sha256)[:DIGEST]):
        raise MalformedError("it is not signed with this key")
    return body


def sent_packet(sent: Sent, key: bytes, length: Size = LENGTH) -> bytes:
    """A sender's packet, of so many bytes."""
    body = _SENT.pack(sent.sequence & 0xFFFFFFFF, ntp(sent.at), ERROR_ESTIMATE)
    return _signed(body, key, bytes(max(0, length - LENGTH)))


def read_sent(data: bytes, key: bytes) -> Sent:
    """Parse a sender's packet. MalformedError."""
    sequence, stamp, _ = _SENT.unpack(_checked(data, key))
    return Sent(sequence, from_ntp(stamp))


def reflected_packet(data: bytes, key: bytes, sequence: int, received: Nanoseconds, at: Nanoseconds, ttl: int) -> bytes:
    """The answer to a sender's packet, with the same length: a reflector never sends more than it received.

    MalformedError if it deserves no answer.
    """
    number, stamp, estimate = _SENT.unpack(_checked(data, key))
    body = _REFLECTED.pack(sequence & 0xFFFFFFFF, ntp(at), ERROR_ESTIMATE, ntp(received), number, stamp, estimate, ttl)
    return _signed(body, key, data[LENGTH:])


def read_reflected(data: bytes, key: bytes) -> Reflected:
    """Parse a reflector's packet. MalformedError."""
    sequence, at, _, received, number, stamp, _, ttl = _REFLECTED.unpack(_checked(data, key))
    return Reflected(sequence, from_ntp(at), from_ntp(received), number, from_ntp(stamp), ttl)

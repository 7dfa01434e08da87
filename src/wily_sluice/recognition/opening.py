"""The first packets of a conversation, as recognisers see them, and a recogniser's verdict.

For TCP, the first bytes of both streams, ordered by sequence numbers (RFC 9293 §3.4); for UDP, the first datagrams.
Both are bounded: a stream to STREAM_BYTES, datagrams to DATAGRAMS; beyond DATAGRAM_BYTES in total, only the first TAIL
bytes of each are kept. A conversation in which peers first find each other and agree on keys, before it carries their
media (RFC 8445, RFC 5764), is watched for SHARED.
"""

from dataclasses import dataclass
from typing import Any, Final, NamedTuple, TypeAlias

from wily_sluice.engine.classify.header import TCP, Parsed, Parties, parties
from wily_sluice.units import Nanoseconds, Size


@dataclass(frozen=True, slots=True)
class Verdict:
    """`seen` is one of `engine.known.PROTOCOLS_SEEN`; `name` the remote's host name, where the packets tell it.

    A verdict that is not `certain` is only probable, and stands until something certain is seen. One that is not
    `final` is certain, but a closer one may follow in the same conversation.
    """

    seen: str
    evidence: str
    name: str = ""
    certain: bool = True
    final: bool = True


class Wait:
    """Not yet: the recogniser wants to see the next packet."""


WAIT: Final = Wait()
Answer: TypeAlias = Verdict | Wait | None  # None: it is not that
STREAM_BYTES: Size = 12_288
MOST_SEGMENTS = 8  # out of order, that wait for one before them
DATAGRAMS = 32
DATAGRAM_BYTES: Size = 12_288
TAIL: Size = 64
SHARED = 96
MOST_PACKETS = 48  # of TCP, before the conversation is left alone
LONGEST: Nanoseconds = 30_000_000_000


class Datagram(NamedTuple):
    """`length` is that of the whole payload; `payload` has its first bytes."""

    up: bool
    payload: bytes
    length: Size
    now: Nanoseconds


class Stream:
    """The first bytes of one direction of a TCP conversation, as far as they are complete."""

    __slots__ = ("_early", "_next", "data")

    def __init__(self) -> None:
        self.data = b""
        self._next: int | None = None
        self._early: dict[int, bytes] = {}

    def add(self, sequence: int, payload: bytes, syn: bool) -> None:
        """Take in a segment. The sequence number of a SYN is one before that of the first byte."""
        if self._next is None:
            self._next = (sequence + syn) & 0xFFFFFFFF
        if not payload:
            return
        ahead = (sequence + syn - self._next) & 0xFFFFFFFF
        if ahead == 0:
            self._append(payload)
        elif ahead < 1 << 20:
            if len(self._early) < MOST_SEGMENTS and len(payload) <= STREAM_BYTES // MOST_SEGMENTS:
                self._early[(sequence + syn) & 0xFFFFFFFF] = payload
        elif (overlap := (1 << 32) - ahead) < len(payload):
            self._append(payload[overlap:])  # sent again, with more behind it

    def _append(self, payload: bytes) -> None:
        assert self._next is not None
        self._next = (self._next + len(payload)) & 0xFFFFFFFF
        if len(self.data) < STREAM_BYTES:
            self.data = (self.data + payload)[:STREAM_BYTES]
        if self._next in self._early:
            self._append(self._early.pop(self._next))


class Opening:
    """`notes` are a recogniser's memory, under its name; `limit` is the number of datagrams to examine."""

    __slots__ = ("begun", "datagrams", "down", "hopes", "kept", "limit", "notes", "opened", "packets", "parties", "up")

    def __init__(self, key: bytes, now: Nanoseconds) -> None:
        self.parties: Parties = parties(key)
        self.begun = now
        self.packets = 0
        self.up, self.down = Stream(), Stream()
        self.datagrams: list[Datagram] = []
        self.limit = DATAGRAMS
        self.kept = 0
        self.notes: dict[str, Any] = {}
        self.hopes: Any = None
        self.opened = False  # a SYN was seen

    @property
    def streams(self) -> tuple[bytes, bytes]:
        """The available bytes of both streams, up and down."""
        return self.up.data, self.down.data

    @property
    def over(self) -> bool:
        """Whether enough was shown."""
        if self.parties.protocol != TCP:
            return self.packets >= self.limit
        full = len(self.up.data) >= STREAM_BYTES and len(self.down.data) >= STREAM_BYTES
        return full or self.packets >= MOST_PACKETS

    def add(self, parsed: Parsed, packet: bytes, up: bool, now: Nanoseconds) -> None:
        """Take a packet; `packet` has its first bytes."""
        self.packets += 1
        payload = packet[parsed.headers : parsed.length or None] if parsed.headers else b""
        if self.parties.protocol == TCP:
            self.opened = self.opened or bool(parsed.flags & 2)
            start = _transport_start(packet)
            if start + 8 <= len(packet):
                sequence = int.from_bytes(packet[start + 4 : start + 8])
                (self.up if up else self.down).add(sequence, payload, bool(parsed.flags & 2))
        elif payload:
            kept = payload if self.kept < DATAGRAM_BYTES else payload[:TAIL]
            self.kept += len(kept)
            self.datagrams.append(Datagram(up, kept, max(len(payload), parsed.length - parsed.headers), now))


def _transport_start(packet: bytes) -> int:
    """Where the TCP header begins, which `engine.classify.header` has found to be there."""
    if packet[0] >> 4 == 4:
        return (packet[0] & 15) * 4
    kind, start = packet[6], 40
    while kind != TCP and start + 1 < len(packet):
        size = (packet[start + 1] + 2) * 4 if kind == 51 else (packet[start + 1] + 1) * 8
        kind, start = packet[start], start + size
    return start

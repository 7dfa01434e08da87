"""Conversations, and the fragments that belong to them.

The conversation table. A conversation is all packets, in both directions, between two ports of two parties. It is
sorted once and remembered.

`header.parse` makes the key. A conversation is forgotten after being idle for one to two times `IDLE`. The table keeps
a young and an old generation; a look-up moves a conversation to the young one, and at the end of a generation the old
one is dropped. Forgetting therefore costs nothing per packet and needs no scan.

A conversation is half open until both sides have sent, or one has sent SETTLED packets. There are at most
MOST_HALF_OPEN half-open ones; the oldest are forgotten first, as are those idle for HALF_OPEN. At most MOST_OPEN are
open; beyond that, half-open ones stay half open. A flood of new conversations can thus neither grow the table nor
displace established ones. Objects are freed a few at a time.

The conversation of fragments: only the first fragment of a datagram contains the ports.

Sources: RFC 791 §3.2, RFC 8200 §4.5: the fragments of a datagram have the same source, destination, protocol and
identification. The result of a first fragment is remembered for LIFE, for a bounded number of datagrams; the oldest are
forgotten first. A fragment ahead of the first one belongs to a conversation without ports.
"""

from collections import deque
from typing import TYPE_CHECKING, Final

from wily_sluice.engine.classify.header import Parsed, Parties, parties
from wily_sluice.engine.classify.service import Known
from wily_sluice.engine.conversations.round_trips import Probe, Spin
from wily_sluice.engine.conversations.watch import Watch, WatchSpec
from wily_sluice.units import SECOND, Nanoseconds

if TYPE_CHECKING:
    from wily_sluice.engine.classify.neighbours import Home
    from wily_sluice.engine.conversations.aggregate import AggregateFlow
    from wily_sluice.engine.queueing.flow_path import FlowPath

IDLE: Final[Nanoseconds] = 120 * SECOND
HALF_OPEN: Final[Nanoseconds] = 60 * SECOND
SETTLED: Final = 8  # packets
MOST_HALF_OPEN: Final = 16_384
MOST_OPEN: Final = 65_536
ERRORS: Final = 10  # ICMP errors a second, as hosts limit them themselves (RFC 1812 §4.3.2.8, RFC 4443 §2.4)
A_SWEEP: Final = 512  # conversations that are freed at a time


class Conversation:
    """`dscps` is the set of DSCPs that its packets have carried, as bits. Flow paths belong to the shapers.

    `unknown`: recognition still examines its packets and writes its result into `known`. `watch` observes it for rules
    that need its state over time. `settled` lets a caller with several sources of packets note that one source is
    drained. While half open it sent `packets`, the last at `seen`; its turn to be forgotten is `due`. `home` is empty
    or the address that it is sorted by (`strangers`). `probe` is the packet whose echo is expected; `spin` exists while
    spin bits are read; `trips` is the number of round trips beyond the uplink, the shortest being `least`
    (`round_trips`). ICMP errors that quote it are counted by the clock `errors`.
    """

    __slots__ = (
        "down_path",
        "dscps",
        "due",
        "errors",
        "home",
        "key",
        "known",
        "least",
        "packets",
        "probe",
        "seen",
        "settled",
        "spin",
        "trips",
        "unknown",
        "up_path",
        "watch",
    )

    def __init__(self, key: bytes, watch: Watch | None = None) -> None:
        self.key = key
        self.dscps = 0
        self.unknown = True
        self.known: Known | None = None
        self.watch = watch
        self.probe: Probe | None = None
        self.spin: Spin | None = None
        self.trips = 0
        self.least: Nanoseconds = 0
        self.settled = 0
        self.home = b""
        self.due: Nanoseconds = 0
        self.seen: Nanoseconds = 0
        self.errors: Nanoseconds = 0
        self.packets = 1
        self.up_path: FlowPath | None = None
        self.down_path: FlowPath | None = None

    def admits_error(self, now: Nanoseconds) -> bool:
        """Whether an ICMP error that quotes it may ride with it: ERRORS a second, and as many at once."""
        behind = now - SECOND
        clock = self.errors if self.errors > behind else behind
        if clock > now:
            return False
        self.errors = clock + SECOND // ERRORS
        return True

    def sort_again(self) -> None:
        """Sort it again at its next packet, in both directions."""
        if self.up_path is not None:
            self.up_path.epoch = -1
        if self.down_path is not None:
            self.down_path.epoch = -1

    @property
    def parties(self) -> Parties:
        """Who takes part."""
        return parties(self.key)


class ConversationTable:
    """Finds the conversation of a packet, or opens one.

    `watch_dscps` means that sorting uses DSCPs: a conversation is sorted again when a packet carries a new one. `watch`
    lists the other observations. An `aggregate` bounds the rate of new conversations and provides stand-ins for the
    excess.
    """

    __slots__ = (
        "_half",
        "_idle",
        "_leaving",
        "_old",
        "_order",
        "_turn",
        "_watch",
        "_watch_dscps",
        "_young",
        "aggregate",
    )

    def __init__(
        self,
        watch_dscps: bool = False,
        idle: Nanoseconds = IDLE,
        watch: WatchSpec | None = None,
        aggregate: "AggregateFlow | None" = None,
    ) -> None:
        self._watch = watch if watch is not None and watch else None
        self._young: dict[bytes, Conversation] = {}
        self._old: dict[bytes, Conversation] = {}
        self._half: dict[bytes, Conversation] = {}
        self._order: deque[Conversation] = deque()  # of those that opened last, some of which are half open
        self._leaving: list[dict[bytes, Conversation]] = []
        self._turn: Nanoseconds | None = None
        self._idle = idle
        self._watch_dscps = watch_dscps
        self.aggregate = aggregate

    def reconfigure(self, watch_dscps: bool, watch: WatchSpec, aggregate: "AggregateFlow | None" = None) -> None:
        """Watch from now on for something else. Conversations that are open take it up when they are next sorted."""
        self._watch_dscps = watch_dscps
        self._watch = watch if watch else None
        if aggregate is not None and self.aggregate is not None:
            aggregate.succeed(self.aggregate)
        self.aggregate = aggregate

    def __len__(self) -> int:
        return len(self._young) + len(self._old) + len(self._half)

    def peek(self, key: bytes) -> Conversation | None:
        """The conversation with this key, if it is open; nothing is changed by that."""
        return self._young.get(key) or self._old.get(key) or self._half.get(key)

    def open(self) -> list[Conversation]:
        """All that are open, without the half-open ones."""
        return [*self._young.values(), *self._old.values()]

    def find(self, key: bytes, dscp: int, now: Nanoseconds, home: "Home | None" = None) -> Conversation:
        """The conversation with this key, opened if need be. `home` is the network that its packet comes from or goes
        to, where that is known, for a stand-in (`engine.conversations.aggregate`).
        """
        if self._turn is None or now >= self._turn:
            if self._turn is not None:
                self._turn_over(now)
            self._turn = now + self._idle
        conversation = self._young.get(key)
        if conversation is None:
            conversation = self._find_further(key, now, home)
        if self._watch_dscps and not conversation.dscps >> dscp & 1:
            conversation.dscps |= 1 << dscp
            conversation.sort_again()
        return conversation

    def _turn_over(self, now: Nanoseconds) -> None:
        """Begin another generation."""
        assert self._turn is not None
        self._leaving.append(self._old)
        if now >= self._turn + self._idle:
            self._leaving.append(self._young)
            self._young = {}
        self._old, self._young = self._young, {}
        self.sweep(now)

    def _find_further(self, key: bytes, now: Nanoseconds, home: "Home | None") -> Conversation:
        """The conversation with this key, which is not among the young."""
        conversation = self._old.pop(key, None)
        if conversation is not None:
            self._young[key] = conversation
            return conversation
        conversation = self._half.get(key)
        if conversation is not None:
            conversation.packets += 1
            conversation.seen = now
            both = conversation.up_path is not None and conversation.down_path is not None
            if (both or conversation.packets >= SETTLED) and len(self._young) + len(self._old) < MOST_OPEN:
                del self._half[key]
                self._young[key] = conversation
            return conversation
        aggregate = self.aggregate
        if aggregate is not None and not aggregate.may_open(key, now):
            return aggregate.stand_in(key, now, home)
        self.sweep(now, 2)
        if len(self._order) >= MOST_HALF_OPEN:
            self._forget(self._order.popleft())
        conversation = Conversation(key, Watch(self._watch) if self._watch is not None else None)
        conversation.due = conversation.seen = now
        self._half[key] = conversation
        self._order.append(conversation)
        return conversation

    def _forget(self, conversation: Conversation) -> None:
        """Forget one if it is half open still."""
        if self._half.get(conversation.key) is conversation:
            del self._half[conversation.key]

    def sweep(self, now: Nanoseconds, limit: int = A_SWEEP) -> None:
        """Free some forgotten objects. Call it regularly."""
        order = self._order
        past = now - min(HALF_OPEN, self._idle)
        for _ in range(limit):
            if not order or order[0].due > past:
                break
            first = order.popleft()
            if first.seen <= past:
                self._forget(first)
            elif first.key in self._half:
                first.due = first.seen
                order.append(first)
        while self._leaving and limit > 0:
            last = self._leaving[-1]
            for _ in range(min(limit, len(last))):
                last.popitem()
                limit -= 1
            if not last:
                self._leaving.pop()


MOST: Final = 4096
LIFE: Final[Nanoseconds] = 30 * SECOND


class Fragments:
    """Of one direction."""

    __slots__ = ("_order", "_ports")

    def __init__(self) -> None:
        self._ports: dict[bytes, tuple[bytes, Nanoseconds]] = {}
        self._order: deque[bytes] = deque()

    def __len__(self) -> int:
        return len(self._ports)

    def key(self, parsed: Parsed, now: Nanoseconds) -> bytes:
        """The key of a fragment's conversation; a first fragment is remembered."""
        datagram, key = parsed.datagram, parsed.key
        ports = key[-4:]
        if any(ports):
            if datagram not in self._ports:
                if len(self._order) >= MOST:
                    self._ports.pop(self._order.popleft(), None)
                self._order.append(datagram)
            self._ports[datagram] = (ports, now + LIFE)
            return key
        known = self._ports.get(datagram)
        return key[:-4] + known[0] if known is not None and known[1] > now else key

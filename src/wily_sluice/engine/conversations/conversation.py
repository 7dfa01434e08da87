"""The conversation table. A conversation is all packets, in both directions, between two ports of two parties. It is
sorted once and remembered.

`header.parse` makes the key. A conversation is forgotten after being idle for one to two times `IDLE`. The table keeps
a young and an old generation; a look-up moves a conversation to the young one, and at the end of a generation the old
one is dropped. Forgetting therefore costs nothing per packet and needs no scan.

A conversation is half open until both sides have sent, or one has sent SETTLED packets. There are at most
MOST_HALF_OPEN half-open ones; the oldest are forgotten first, as are those idle for HALF_OPEN. At most MOST_OPEN are
open; beyond that, half-open ones stay half open. A flood of new conversations can thus neither grow the table nor
displace established ones. Objects are freed a few at a time.
"""

from collections import deque
from typing import TYPE_CHECKING, Final

from wily_sluice.engine.classify.header import Parties, parties
from wily_sluice.engine.classify.known import Known
from wily_sluice.engine.conversations.round_trips import Probe, Spin
from wily_sluice.engine.conversations.watch import Watch, WatchSpec
from wily_sluice.units import SECOND, Nanoseconds

if TYPE_CHECKING:
    from wily_sluice.engine.conversations.crowd import Crowd
    from wily_sluice.engine.conversations.strangers import Home
    from wily_sluice.engine.queueing.lane import Lane

IDLE: Final[Nanoseconds] = 120 * SECOND
HALF_OPEN: Final[Nanoseconds] = 60 * SECOND
SETTLED: Final = 8  # packets
MOST_HALF_OPEN: Final = 16_384
MOST_OPEN: Final = 65_536
A_SWEEP: Final = 512  # conversations that are freed at a time


class Conversation:
    """`dscps` is the set of DSCPs that its packets have carried, as bits. Lanes belong to the shapers.

    `unknown`: recognition still examines its packets and writes its result into `known`. `watch` observes it for rules
    that need its state over time. `settled` lets a caller with several sources of packets note that one source is
    drained. While half open it sent `packets`, the last at `seen`; its turn to be forgotten is `due`. `home` is empty
    or the address that it is sorted by (`strangers`). `probe` is the packet whose echo is expected; `spin` exists while
    spin bits are read; `trips` is the number of round trips beyond the uplink, the shortest being `least`
    (`round_trips`).
    """

    __slots__ = (
        "down_lane",
        "dscps",
        "due",
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
        "up_lane",
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
        self.packets = 1
        self.up_lane: Lane | None = None
        self.down_lane: Lane | None = None

    def sort_again(self) -> None:
        """Sort it again at its next packet, in both directions."""
        if self.up_lane is not None:
            self.up_lane.epoch = -1
        if self.down_lane is not None:
            self.down_lane.epoch = -1

    @property
    def parties(self) -> Parties:
        """Who takes part."""
        return parties(self.key)


class ConversationTable:
    """Finds the conversation of a packet, or opens one.

    `watch_dscps` means that sorting uses DSCPs: a conversation is sorted again when a packet carries a new one. `watch`
    lists the other observations. A `crowd` bounds the rate of new conversations and provides stand-ins for the excess.
    """

    __slots__ = ("_half", "_idle", "_leaving", "_old", "_order", "_turn", "_watch", "_watch_dscps", "_young", "crowd")

    def __init__(
        self,
        watch_dscps: bool = False,
        idle: Nanoseconds = IDLE,
        watch: WatchSpec | None = None,
        crowd: "Crowd | None" = None,
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
        self.crowd = crowd

    def reconfigure(self, watch_dscps: bool, watch: WatchSpec, crowd: "Crowd | None" = None) -> None:
        """Watch from now on for something else. Conversations that are open take it up when they are next sorted."""
        self._watch_dscps = watch_dscps
        self._watch = watch if watch else None
        if crowd is not None and self.crowd is not None:
            crowd.succeed(self.crowd)
        self.crowd = crowd

    def __len__(self) -> int:
        return len(self._young) + len(self._old) + len(self._half)

    def peek(self, key: bytes) -> Conversation | None:
        """The conversation with this key, if it is open; nothing is changed by that."""
        return self._young.get(key) or self._old.get(key) or self._half.get(key)

    def find(self, key: bytes, dscp: int, now: Nanoseconds, home: "Home | None" = None) -> Conversation:
        """The conversation with this key, opened if need be. `home` is the network that its packet comes from or goes
        to, where that is known, for a stand-in (`engine.conversations.crowd`).
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
            both = conversation.up_lane is not None and conversation.down_lane is not None
            if (both or conversation.packets >= SETTLED) and len(self._young) + len(self._old) < MOST_OPEN:
                del self._half[key]
                self._young[key] = conversation
            return conversation
        crowd = self.crowd
        if crowd is not None and not crowd.may_open(now):
            return crowd.stand_in(key, now, home)
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

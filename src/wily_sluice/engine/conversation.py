"""Conversations: all packets, both ways, between two ports of two parties. Sorted once, and remembered.

A conversation is looked up by the key that `header.parse` makes. It is forgotten after it has been idle for between
one and two times `IDLE`: the table keeps a young and an old generation, a lookup brings its conversation back among
the young, and when a generation is over the old ones go. So forgetting costs nothing per packet and never scans.
"""

from typing import TYPE_CHECKING, Final

from wily_sluice.engine.header import Parties, parties
from wily_sluice.engine.known import Known
from wily_sluice.engine.watch import Watch, WatchSpec
from wily_sluice.units import SECOND, Nanoseconds

if TYPE_CHECKING:
    from wily_sluice.engine.lane import Lane

IDLE: Final[Nanoseconds] = 120 * SECOND


class Conversation:
    """`marks` is the set of DSCPs that its packets have carried, as bits. Lanes belong to the shapers.

    `unknown` says that its packets are still shown to recognition, which writes what it finds into `known`. `watch`
    follows it where rules ask for what only time shows.
    """

    __slots__ = ("down_lane", "key", "known", "marks", "unknown", "up_lane", "watch")

    def __init__(self, key: bytes, watch: Watch | None = None) -> None:
        self.key = key
        self.marks = 0
        self.unknown = True
        self.known: Known | None = None
        self.watch = watch
        self.up_lane: Lane | None = None
        self.down_lane: Lane | None = None

    def sort_again(self) -> None:
        """Have it sorted again at its next packet, in both directions."""
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

    `watch_marks` says that sorting looks at DSCPs: then a conversation is sorted afresh when one of its packets
    carries a mark that none before it did. `watch` says what else of a conversation is followed.
    """

    __slots__ = ("_idle", "_old", "_turn", "_watch", "_watch_marks", "_young")

    def __init__(self, watch_marks: bool = False, idle: Nanoseconds = IDLE, watch: WatchSpec | None = None) -> None:
        self._watch = watch if watch is not None and watch else None
        self._young: dict[bytes, Conversation] = {}
        self._old: dict[bytes, Conversation] = {}
        self._turn: Nanoseconds | None = None
        self._idle = idle
        self._watch_marks = watch_marks

    def follow(self, watch_marks: bool, watch: WatchSpec) -> None:
        """Watch from now on for something else. Conversations that are open take it up when they are next sorted."""
        self._watch_marks = watch_marks
        self._watch = watch if watch else None

    def __len__(self) -> int:
        return len(self._young) + len(self._old)

    def peek(self, key: bytes) -> Conversation | None:
        """The conversation with this key, if it is open; nothing is changed by that."""
        return self._young.get(key) or self._old.get(key)

    def find(self, key: bytes, dscp: int, now: Nanoseconds) -> Conversation:
        """The conversation with this key, opened if need be."""
        if self._turn is None or now >= self._turn:
            if self._turn is not None:
                self._old = self._young if now < self._turn + self._idle else {}
                self._young = {}
            self._turn = now + self._idle
        conversation = self._young.get(key)
        if conversation is None:
            conversation = self._old.pop(key, None) or Conversation(
                key, Watch(self._watch) if self._watch is not None else None
            )
            self._young[key] = conversation
        if self._watch_marks and not conversation.marks >> dscp & 1:
            conversation.marks |= 1 << dscp
            conversation.sort_again()
        return conversation

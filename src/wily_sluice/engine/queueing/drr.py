"""Drr by bytes: deficit round robin among conversations, or among hosts.

Source: RFC 8290 §4 (new and old flows; §4.1.2, the fattest loses). A flow that sends less than its turn is always new
and never waits for one that sends more. A member can divide its turn: a host does, among its conversations.

If the queue is too long, the fattest loses packets. It is found without a search: a backlog that reaches 2 kB, 4 kB, 8
kB and so on is registered at that level, and any backlog at the highest level is within a factor of two of the fattest.
A backlog that has shrunk is corrected when it is examined, which its growth has paid for.

Invariants: `backlog` and `length` are the sums over the contenders; the work per packet does not depend on their
number.
"""

from collections.abc import Callable
from typing import Final

from wily_sluice.engine.packet import LONGEST_FRAME, Packet
from wily_sluice.units import Nanoseconds, Size

QUANTUM: Final[Size] = LONGEST_FRAME
FIRST_LEVEL: Final[Size] = 2048  # bytes of one contender's backlog


class Contender:
    """One that takes turns. `listed` says that it is among the new or the old.

    `level` is the highest that its backlog has been noted at, -1 for none; at `grown` bytes it reaches the next.
    """

    __slots__ = ("backlog", "deficit", "grown", "length", "level", "listed", "next_in_turn")

    def __init__(self) -> None:
        self.backlog: Size = 0
        self.length = 0
        self.deficit = 0
        self.listed = False
        self.next_in_turn: Contender | None = None
        self.level = -1
        self.grown: Size = FIRST_LEVEL

    def dequeue(self, now: Nanoseconds, drop: Callable[[Packet], None]) -> Packet | None:
        """The next packet to send, after dropping delayed ones; None if no packet is left."""
        raise NotImplementedError

    def shed(self, drop: Callable[[Packet], None]) -> None:
        """Lose something from the head; at least one packet, where there is one."""
        raise NotImplementedError

    def drain(self) -> list[Packet]:
        """Take everything out, in an order that keeps that of each conversation."""
        raise NotImplementedError


class Drr(Contender):
    """Contenders taking turns; itself one, among others of its kind."""

    __slots__ = ("_last", "_levels", "_new", "_new_tail", "_old", "_old_tail")

    def __init__(self) -> None:
        super().__init__()
        self._new: Contender | None = None  # the heads and tails of two lists, linked by `next_in_turn`
        self._new_tail: Contender | None = None
        self._old: Contender | None = None
        self._old_tail: Contender | None = None
        self._levels: list[dict[Contender, None]] | None = None
        self._last: Contender | None = None  # who grew last

    def arrived(self, member: Contender, size: Size) -> None:
        """Take account of a packet that a contender has taken in."""
        self.backlog += size
        self.length += 1
        self._last = member
        if not member.listed:
            member.listed = True
            member.deficit = QUANTUM
            if self._new_tail is None:
                self._new = member
            else:
                self._new_tail.next_in_turn = member
            self._new_tail = member
        if member.backlog >= member.grown:
            self._note(member)

    def dequeue(self, now: Nanoseconds, drop: Callable[[Packet], None]) -> Packet | None:
        """The next packet to send; None if the queue is empty, or the last packet was dropped."""
        while True:
            member = self._new
            new = member is not None
            if member is None:
                member = self._old
                if member is None:
                    return None
            if member.deficit <= 0:
                member.deficit += QUANTUM
                self._advance(new)
                self._append_old(member)
                continue
            backlog, length = member.backlog, member.length
            packet = member.dequeue(now, drop)
            self.backlog -= backlog - member.backlog
            self.length -= length - member.length
            if packet is not None:
                member.deficit -= packet.size
                return packet
            self._advance(new)
            # A new one that runs empty passes once through the old, so that it cannot come back as new at every turn
            # and starve them (§4.2).
            if new and self._old is not None:
                self._append_old(member)
            else:
                member.listed = False
                if member.level >= 0:
                    self._note(member)

    def _advance(self, new: bool) -> None:
        """Take the head out of one of the lists."""
        if new:
            assert self._new is not None
            head, self._new = self._new, self._new.next_in_turn
            if self._new is None:
                self._new_tail = None
        else:
            assert self._old is not None
            head, self._old = self._old, self._old.next_in_turn
            if self._old is None:
                self._old_tail = None
        head.next_in_turn = None

    def _append_old(self, member: Contender) -> None:
        if self._old_tail is None:
            self._old = member
        else:
            self._old_tail.next_in_turn = member
        self._old_tail = member

    def shed(self, drop: Callable[[Packet], None]) -> None:
        """Let the fattest lose."""
        member = self._fattest() or self._last
        if member is not None:
            backlog, length = member.backlog, member.length
            member.shed(drop)
            self.backlog -= backlog - member.backlog
            self.length -= length - member.length

    def drain(self) -> list[Packet]:
        """Take everything out. The members stay where they stand, and are found empty."""
        packets: list[Packet] = []
        for head in (self._new, self._old):
            member = head
            while member is not None:
                packets += member.drain()
                member = member.next_in_turn
        self.backlog = self.length = 0
        return packets

    def dissolve(self) -> None:
        """Release all members, which are empty."""
        for head in (self._new, self._old):
            member = head
            while member is not None:
                following, member.next_in_turn, member.listed = member.next_in_turn, None, False
                if isinstance(member, Drr):
                    member.dissolve()
                member = following
        self._new = self._new_tail = self._old = self._old_tail = self._last = None
        self._levels = None

    def lost(self, backlog: Size, length: int) -> None:
        """Account for packets removed from a member."""
        self.backlog -= backlog
        self.length -= length

    def _note(self, member: Contender) -> None:
        """Put a contender at the level of its backlog."""
        levels = self._levels
        if levels is None:
            levels = self._levels = []
        if member.level >= 0:
            del levels[member.level][member]
        member.level = (member.backlog // FIRST_LEVEL).bit_length() - 1
        member.grown = FIRST_LEVEL << (member.level + 1)
        if member.level >= 0:
            while len(levels) <= member.level:
                levels.append({})
            levels[member.level][member] = None

    def _fattest(self) -> Contender | None:
        """One with at least half the backlog of the fattest; None when all have less than the first level."""
        while self._levels:
            if not self._levels[-1]:
                self._levels.pop()
                continue
            member = next(iter(self._levels[-1]))
            if member.backlog >= FIRST_LEVEL << member.level:
                return member
            self._note(member)
        return None

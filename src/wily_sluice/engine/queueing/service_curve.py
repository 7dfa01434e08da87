"""What a leaf of a `curve` parent is promised: its guarantee, and how long a packet inside it waits at most.

Source: the real-time criterion of hierarchical fair service curves (Stoica, Zhang, Ng: A Hierarchical Fair Service
Curve Algorithm for Link-Sharing, Real-Time and Priority Services, 1997; §IV: eligible times and deadlines).

A leaf with a guarantee R, a burst L (one largest frame) and a delay d has the concave curve of two pieces that gives L
bytes within d, and R from then on: the lower of a line of slope L/d and one of slope R that passes (d, L). A deadline
curve is the lowest of such curves, one begun at each time the leaf becomes busy. The lowest of lines of one slope is a
line again, so a deadline curve is two lines, and each is kept as a virtual clock: the time at which it reaches the
bytes that the promise has served so far. The later clock is when the next byte is eligible, and where both clocks would
be after the packet at the head, the later one is its deadline.

Only packets that are sent for the promise move the clocks: what a leaf had from what others left is not held against
it. While the lines of all promises together stay below the line's own rate, no deadline is missed by more than the
packet on the wire (§V). So a packet of a queue that sends no more than L at once and R in the long run waits at most d,
and that packet.
"""

from heapq import heappop, heappush
from typing import TYPE_CHECKING, Final

from wily_sluice.engine.queueing.pace import sending_time
from wily_sluice.units import BYTE_TIME, SECOND, Nanoseconds, Rate, Size, transmission_time

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.tree import Leaf

BUSY_CREDIT: Final[Nanoseconds] = SECOND  # of a stall that kept a busy leaf from what it was promised


def first_slope(guarantee: Rate, delay: Nanoseconds | None, burst: Size) -> Rate:
    """The slope of a curve's first piece in bit/s; the guarantee, where that is enough to keep the delay."""
    return guarantee if delay is None else max(guarantee, -(-burst * BYTE_TIME // delay))


class Promise:
    """A leaf's deadline curve. `guarantee` is above 0, in bit/s; without a delay the curve is one line."""

    __slots__ = ("_burst_clock", "_credit", "_lasting_clock", "first", "guarantee")

    def __init__(self, guarantee: Rate, delay: Nanoseconds | None, burst: Size) -> None:
        self.guarantee = guarantee
        self.first = first_slope(guarantee, delay, burst)
        # How long before the leaf became busy the line of slope R begins.
        self._credit = 0 if delay is None else max(0, transmission_time(burst, guarantee) - delay)
        self._burst_clock: Nanoseconds = 0
        self._lasting_clock: Nanoseconds = -self._credit

    def is_like(self, other: "Promise") -> bool:
        """Whether it promises the same."""
        return (self.guarantee, self.first, self._credit) == (other.guarantee, other.first, other._credit)

    def begin(self, now: Nanoseconds) -> None:
        """The leaf has become busy."""
        if self._burst_clock < now:
            self._burst_clock = now
        if self._lasting_clock < now - self._credit:
            self._lasting_clock = now - self._credit

    @property
    def eligible(self) -> Nanoseconds:
        """From when on the next packet may be sent for the promise."""
        burst, lasting = self._burst_clock, self._lasting_clock
        return burst if burst > lasting else lasting

    def deadline(self, size: Size) -> Nanoseconds:
        """By when a packet of this size must have been sent, if it is the next."""
        burst = self._burst_clock + sending_time(size, self.first)
        lasting = self._lasting_clock + sending_time(size, self.guarantee)
        return burst if burst > lasting else lasting

    def charge(self, size: Size, now: Nanoseconds) -> None:
        """Count a packet that was sent for the promise."""
        behind = now - BUSY_CREDIT
        self._burst_clock = max(self._burst_clock, behind) + sending_time(size, self.first)
        self._lasting_clock = max(self._lasting_clock, behind - self._credit) + sending_time(size, self.guarantee)


class RealTime:
    """The leaves of a tree that have a promise and a packet: by eligible time, and those eligible by deadline.

    A leaf's `due_key` is the time it stands at in one of the two, None where it has no packet. An entry with another
    time is out of date, and thrown away when it comes to the top.
    """

    __slots__ = ("_due", "_waiting")

    def __init__(self) -> None:
        self._waiting: list[tuple[Nanoseconds, int, Leaf]] = []
        self._due: list[tuple[Nanoseconds, int, Leaf]] = []

    def place(self, leaf: "Leaf") -> None:
        """Put a leaf where it belongs, after it became busy, or a packet was sent for its promise, or it ran empty."""
        promise = leaf.promise
        assert promise is not None
        if leaf.head is None:
            leaf.due_key = None
        else:
            leaf.is_due = False
            leaf.due_key = promise.eligible
            heappush(self._waiting, (leaf.due_key, leaf.order, leaf))

    def head_changed(self, leaf: "Leaf") -> None:
        """Put a leaf right after a packet was sent that was not for its promise."""
        if leaf.head is None:
            leaf.due_key = None
        elif leaf.is_due:
            promise = leaf.promise
            assert promise is not None
            deadline = promise.deadline(leaf.head.size)
            if deadline != leaf.due_key:
                leaf.due_key = deadline
                heappush(self._due, (deadline, leaf.order, leaf))

    def next_leaf(self, now: Nanoseconds) -> "Leaf | None":
        """The leaf with the earliest deadline among those that are eligible now."""
        waiting, due = self._waiting, self._due
        while waiting and waiting[0][0] <= now:
            key, _, leaf = heappop(waiting)
            if key == leaf.due_key and not leaf.is_due:
                promise, head = leaf.promise, leaf.head
                assert promise is not None
                assert head is not None
                leaf.is_due = True
                leaf.due_key = promise.deadline(head.size)
                heappush(due, (leaf.due_key, leaf.order, leaf))
        while due:
            key, _, leaf = due[0]
            if key == leaf.due_key and leaf.is_due:
                return leaf
            heappop(due)
        return None

    def next_eligible(self) -> Nanoseconds | None:
        """When the next leaf is eligible, at the latest; one that is so now counts as long past."""
        if self._due:
            return 0
        return self._waiting[0][0] if self._waiting else None

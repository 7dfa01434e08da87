"""The leaves of a tree that are promised a delay, by deadline: the real-time criterion of `service_curve`."""

from heapq import heappop, heappush

from wily_sluice.engine.queueing.node import Leaf
from wily_sluice.units import Nanoseconds


class RealTime:
    """The leaves with a promise and a packet: by eligible time, and eligible ones by deadline.

    `due_key` of a leaf is its time in one of the two heaps, None if it has no packet. An entry with another time is
    outdated and is discarded at the top.
    """

    __slots__ = ("_due", "_waiting")

    def __init__(self) -> None:
        self._waiting: list[tuple[Nanoseconds, int, Leaf]] = []
        self._due: list[tuple[Nanoseconds, int, Leaf]] = []

    def place(self, leaf: Leaf) -> None:
        """Put a leaf where it belongs, after it became busy, or a packet was sent for its promise, or it ran empty."""
        promise = leaf.promise
        assert promise is not None
        if leaf.head is None:
            leaf.due_key = None
        else:
            leaf.is_due = False
            leaf.due_key = promise.eligible
            heappush(self._waiting, (leaf.due_key, leaf.order, leaf))

    def head_changed(self, leaf: Leaf) -> None:
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

    def next_leaf(self, now: Nanoseconds) -> Leaf | None:
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
        """When the next leaf is eligible, at the latest; a leaf that is eligible now counts as long past."""
        if self._due:
            return 0
        return self._waiting[0][0] if self._waiting else None

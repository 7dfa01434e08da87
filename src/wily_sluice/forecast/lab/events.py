"""Simulated time: events in order.

A heap of times and calls. Events with the same time happen in the order of their scheduling, so that runs can be
repeated.
"""

from collections.abc import Callable
from heapq import heappop, heappush
from typing import Any

from wily_sluice.units import Nanoseconds


class Events:
    """`now` is the simulated time in nanoseconds, from 0."""

    __slots__ = ("_heap", "_order", "now")

    def __init__(self) -> None:
        self.now: Nanoseconds = 0
        self._heap: list[tuple[Nanoseconds, int, Callable[[Any], None], Any]] = []
        self._order = 0

    def at(self, time: Nanoseconds, call: Callable[[Any], None], argument: Any = None) -> None:
        """Schedule `call(argument)` at `time`, which must not be past."""
        if time < self.now:
            raise ValueError(f"an event at {time} ns is in the past: it is {self.now} ns")
        self._order += 1
        heappush(self._heap, (time, self._order, call, argument))

    def run(self, until: Nanoseconds) -> None:
        """Run everything that is due before `until`, which then is now."""
        heap = self._heap
        while heap and heap[0][0] < until:
            self.now, _, call, argument = heappop(heap)
            call(argument)
        self.now = until

"""Counters of a queue, of a limiter, or of one host's conversations under one rule.

Counts only grow, so that two readings give what happened in between. Bytes are as the interface counts
them: an IP packet and its Ethernet header of 14 bytes.

How long packets waited goes into a histogram of fixed size: four steps to each doubling, from 16 µs to half a minute. A
percentile read from it is at most a quarter too high, and never too low.
"""

from collections.abc import Sequence
from typing import Final

from wily_sluice.units import Nanoseconds, Size

ETHERNET_HEADER: Final[Size] = 14
FINEST: Final = 14  # a wait is counted in units of 2**14 ns
STEPS: Final = 84
MOST_TRIPS: Final = 8  # of one tally, until they are read


def step_of(wait: Nanoseconds) -> int:
    """The step of the histogram for a wait."""
    units = wait >> FINEST
    bits = units.bit_length()
    if bits <= 2:
        return units if units > 0 else 0
    step = ((bits - 2) << 2) + ((units >> (bits - 3)) & 3)
    return step if step < STEPS else STEPS - 1


def step_end(step: int) -> Nanoseconds:
    """The upper end of a step, in ns."""
    if step < 4:
        return (step + 1) << FINEST
    return (5 + (step & 3)) << ((step >> 2) - 1 + FINEST)


def percentile(waits: Sequence[int], part: float) -> Nanoseconds:
    """The delay at this quantile, from 0 to 1; 0 if no packet was counted."""
    sought, seen = part * sum(waits), 0
    for step, count in enumerate(waits):
        seen += count
        if count and seen >= sought:
            return step_end(step)
    return 0


class Tally:
    """`backlog` in bytes and `waiting` in packets are present now; `busy` is the total time with a backlog, in ns.

    `waits` counts the delays of packets that have left, except in the first bin, which are the rest of `packets`.
    `told` is for a reader, to note its last values. `touched` means that the tally is in a list of changed ones.
    """

    __slots__ = (
        "_since",
        "backlog",
        "busy",
        "bytes",
        "drops",
        "marks",
        "packets",
        "told",
        "touched",
        "waiting",
        "waits",
    )

    def __init__(self) -> None:
        self.bytes: Size = 0
        self.packets = 0
        self.drops = 0
        self.marks = 0
        self.backlog: Size = 0
        self.waiting = 0
        self.busy: Nanoseconds = 0
        self.touched = False
        self.told: tuple[int, ...] = ()
        self._since: Nanoseconds = 0
        self.waits: list[int] | None = None  # until a packet has waited

    def enter(self, length: Size, now: Nanoseconds) -> None:
        """Count a packet of so many bytes in."""
        if not self.waiting:
            self._since = now
        self.waiting += 1
        self.backlog += length + ETHERNET_HEADER

    def leave(self, length: Size, marked: bool, now: Nanoseconds, wait: Nanoseconds) -> None:
        """Count it out, on its way."""
        size = length + ETHERNET_HEADER
        self.bytes += size
        self.packets += 1
        if marked:
            self.marks += 1
        if wait >> FINEST:
            if self.waits is None:
                self.waits = [0] * STEPS
            self.waits[step_of(wait)] += 1
        self._out(size, now)

    def lose(self, length: Size, now: Nanoseconds) -> None:
        """Count it out, dropped."""
        self.drops += 1
        self._out(length + ETHERNET_HEADER, now)

    def move(self, length: Size, now: Nanoseconds) -> None:
        """Count it out, moved elsewhere."""
        self._out(length + ETHERNET_HEADER, now)

    def _out(self, size: Size, now: Nanoseconds) -> None:
        self.backlog -= size
        self.waiting -= 1
        if not self.waiting and now > self._since:
            self.busy += now - self._since

    def busy_until(self, now: Nanoseconds) -> Nanoseconds:
        """The total time with a packet inside, up to now."""
        return self.busy + (now - self._since if self.waiting and now > self._since else 0)


class FlowTally(Tally):
    """Counters of one local host's conversations in one direction, under one rule and one service.

    `index` is the rule's in its plan, or -1 for none; `rule` and `service` are names, or empty. `beyond` and `inside`
    are the first round trips in ns since they were last read.
    """

    __slots__ = ("beyond", "host", "index", "inside", "rule", "service")

    def __init__(self, host: bytes, index: int, rule: str, service: str) -> None:
        super().__init__()
        self.host = host
        self.index = index
        self.rule = rule
        self.service = service
        self.beyond: list[Nanoseconds] | None = None
        self.inside: list[Nanoseconds] | None = None

    def trip(self, beyond: bool, took: Nanoseconds) -> None:
        """Take note of a round trip, beyond the line or inside the house."""
        trips = self.beyond if beyond else self.inside
        if trips is None:
            trips = []
            if beyond:
                self.beyond = trips
            else:
                self.inside = trips
        if len(trips) < MOST_TRIPS:
            trips.append(took)

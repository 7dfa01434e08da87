"""The counters of a subject over a span of time."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple, TypeAlias

from wily_sluice.engine.tally import STEPS, percentile
from wily_sluice.units import Direction, Nanoseconds, Size

SUMS = ("bytes", "packets", "drops", "marks", "busy", "framed", "payload")
MOST_TRIPS = 32  # round trips that are kept
Subject: TypeAlias = Literal["uplink", "queue", "limiter", "host", "rule", "service"]


class Key(NamedTuple):
    """The subject of counters. `uplink` is empty for all uplinks together."""

    subject: Subject
    uplink: str
    direction: Direction
    name: str


@dataclass(slots=True)
class Counts:
    """The counters of a span of time. Sizes in bytes as an interface counts them, `framed` as on the line.

    `backlog` and `waiting`, in bytes and packets, are those at its end; `busy` is in ns; `waits` as in `engine.tally`,
    without the first bin; `beyond` and `inside` are the last round trips seen, in ns.
    """

    bytes: Size = 0
    packets: int = 0
    drops: int = 0
    marks: int = 0
    backlog: Size = 0
    waiting: int = 0
    busy: Nanoseconds = 0
    framed: Size = 0
    payload: Size = 0
    waits: list[int] = field(default_factory=list)
    beyond: list[Nanoseconds] = field(default_factory=list)
    inside: list[Nanoseconds] = field(default_factory=list)

    def add(self, row: Any) -> None:
        """Count what `row`, which has counts of the same names, counted elsewhere in the same span: backlogs add up."""
        self.backlog += row.backlog
        self.waiting += row.waiting
        self._add(row)

    def then(self, later: "Counts") -> None:
        """Add later counters of the same subject: the backlog is the later one."""
        self.backlog, self.waiting = later.backlog, later.waiting
        self._add(later)

    def _add(self, row: Any) -> None:
        self.bytes += row.bytes
        self.packets += row.packets
        self.drops += row.drops
        self.marks += row.marks
        self.busy += row.busy
        self.framed += row.framed
        self.payload += row.payload
        if row.beyond:
            self.beyond = [*self.beyond, *row.beyond][-MOST_TRIPS:]
        if row.inside:
            self.inside = [*self.inside, *row.inside][-MOST_TRIPS:]
        if row.waits:
            if not self.waits:
                self.waits = [0] * STEPS
            for step, count in enumerate(row.waits):
                self.waits[step] += count

    def parted(self, ends: Sequence[float]) -> list["Counts"]:
        """Split at these fractions of its span, the last being 1; values at its end, and round trips, belong to the
        last part.
        """
        parts = []
        before = 0.0
        for end in ends:
            counts = Counts()
            for name in SUMS:
                whole: int = getattr(self, name)
                setattr(counts, name, int(whole * end) - int(whole * before))
            counts.waits = [int(count * end) - int(count * before) for count in self.waits]
            parts.append(counts)
            before = end
        last = parts[-1]
        last.backlog, last.waiting, last.beyond, last.inside = self.backlog, self.waiting, self.beyond, self.inside
        return parts

    def delay(self, part: float) -> Nanoseconds:
        """What so great a part of the packets did not wait longer than."""
        if not self.waits:
            return 0
        at_once = max(0, self.packets - sum(self.waits))
        return percentile([at_once + self.waits[0], *self.waits[1:]], part)

    def round_trip(self, beyond: bool) -> Nanoseconds | None:
        """The lower quartile of the round trips seen last, beyond the line or inside the house; None of none.

        Not the median: of two segments, the first is often acknowledged only with the second (RFC 9293 §3.8.6.3).
        """
        trips = sorted(self.beyond if beyond else self.inside)
        return trips[len(trips) // 4] if trips else None

    @property
    def idle(self) -> bool:
        """Whether nothing happened."""
        return not (self.packets or self.drops or self.waiting or self.busy)

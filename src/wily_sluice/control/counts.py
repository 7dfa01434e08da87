"""Adds up what the gate counted: by queue, limiter, host, rule, service and uplink, in each direction."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from ipaddress import ip_address
from typing import Literal, NamedTuple, TypeAlias

from wily_sluice.engine.tally import STEPS, percentile
from wily_sluice.gate.counters import Row
from wily_sluice.units import Direction, Nanoseconds, Size

Subject: TypeAlias = Literal["uplink", "queue", "limiter", "host", "rule", "service"]
NOBODY_S = "(none)"  # for what no rule claims, or what is of no known service


class Key(NamedTuple):
    """Of what. `uplink` is empty where it is counted over all of them."""

    subject: Subject
    uplink: str
    direction: Direction
    name: str


@dataclass(slots=True)
class Counts:
    """What was counted in some span of time. Sizes in bytes as an interface counts them, `framed` as on the line.

    `backlog` and `waiting`, in bytes and packets, are as they were at its end; `busy` is in ns; `waits` as in
    `engine.tally`, without the first step.
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

    def add(self, row: "Row | Counts") -> None:
        """Count what another counted in the same span, elsewhere: backlogs add up."""
        self.backlog += row.backlog
        self.waiting += row.waiting
        self._add(row)

    def then(self, later: "Counts") -> None:
        """Count what was counted after this, of the same: the backlog is the later one."""
        self.backlog, self.waiting = later.backlog, later.waiting
        self._add(later)

    def _add(self, row: "Row | Counts") -> None:
        self.bytes += row.bytes
        self.packets += row.packets
        self.drops += row.drops
        self.marks += row.marks
        self.busy += row.busy
        self.framed += row.framed
        self.payload += row.payload
        if row.waits:
            if not self.waits:
                self.waits = [0] * STEPS
            for step, count in enumerate(row.waits):
                self.waits[step] += count

    def delay(self, part: float) -> Nanoseconds:
        """What so great a part of the packets did not wait longer than."""
        if not self.waits:
            return 0
        at_once = self.packets - sum(self.waits)
        return percentile([at_once + self.waits[0], *self.waits[1:]], part)

    @property
    def idle(self) -> bool:
        """Whether nothing happened."""
        return not (self.packets or self.drops or self.waiting or self.busy)


def add_up(rows: Iterable[Row]) -> dict[Key, Counts]:
    """By everything that there is to count by."""
    found: dict[Key, Counts] = {}
    for row in rows:
        for key in _keys(row):
            found.setdefault(key, Counts()).add(row)
    # A host's or a rule's packets wait side by side: how long at least one of them did is not the sum.
    return found


def _keys(row: Row) -> tuple[Key, ...]:
    if isinstance(row.name, str):
        own = Key("queue" if row.kind == "queue" else "limiter", row.uplink, row.direction, row.name)
        return (own, Key("uplink", "", row.direction, row.uplink)) if row.kind == "queue" else (own,)
    host, rule, service = row.name
    return (
        Key("host", "", row.direction, str(ip_address(host)) if host else NOBODY_S),
        Key("rule", "", row.direction, rule or NOBODY_S),
        Key("service", "", row.direction, service or NOBODY_S),
    )

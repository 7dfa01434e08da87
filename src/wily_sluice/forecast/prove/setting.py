"""The tests of promises: streams through a part of the plan, the queue of a conversation, or its uplink. A world runs
them, in simulated time or on real packets.
"""

from dataclasses import dataclass
from datetime import datetime
from typing import Literal, Protocol

from wily_sluice.forecast.prove.example import Example
from wily_sluice.units import Direction, Nanoseconds, Rate, Size

FULL: Size = 1500


@dataclass(frozen=True, slots=True)
class Part:
    """The part of a plan that is active.

    `rules`: all but the limiters. `trees`: no limiter, and for each leaf one rule that leads there by a port
    (`bench.steered`). `limiter`: of the limiters, only the one called `name`.
    """

    kind: Literal["rules", "trees", "limiter"]
    name: str = ""


RULES, TREES = Part("rules"), Part("trees")


@dataclass(frozen=True, slots=True)
class Stream:
    """Packets of a conversation at a rate of the line, in bit/s."""

    example: Example
    rate: Rate
    length: Size = FULL


@dataclass(frozen=True, slots=True)
class Flood:
    """Streams in one direction of an uplink, in no less than some time; with quotas used up, if they are `spent`.

    Schedules apply as at the moment; without one, all apply.
    """

    part: Part
    uplink: str
    way: Direction
    streams: tuple[Stream, ...]
    least: Nanoseconds = 0
    spent: bool = False
    moment: datetime | None = None


@dataclass(frozen=True, slots=True)
class Where:
    """A conversation over an uplink, by the plan's rules."""

    uplink: str
    example: Example
    moment: datetime | None = None


@dataclass(frozen=True, slots=True)
class Led:
    """A number of equal conversations, opened one after another by the plan's routes while uplinks are `down`."""

    example: Example
    many: int = 1
    down: frozenset[str] = frozenset()
    moment: datetime | None = None


@dataclass(frozen=True, slots=True)
class Came:
    """The result of a stream: its rate on the line in bit/s, and its delays.

    95% of the packets had a delay of at most `p95`, all of at most `longest`; on real packets, `longest` is the 99th
    percentile.
    """

    rate: float
    p95: Nanoseconds
    longest: Nanoseconds


class World(Protocol):
    """Where promises are tried. `slack` is how long packets may wait for the machine, in addition to the plan."""

    slack: Nanoseconds

    def flood(self, asked: Flood) -> tuple[Came, ...]:
        """The result of each stream. CannotTry if that cannot be tried here."""

    def where(self, asked: Where) -> str:
        """The path of its leaf; empty if it bypasses the gate. May raise CannotTry."""

    def lines(self, asked: Led) -> tuple[str, ...]:
        """The uplink of each conversation; empty if no route has one. May raise CannotTry."""


class CannotTry(Exception):
    """Why it cannot be tried in this world."""

"""What is tried for a promise: streams through a part of the plan, the queue of a conversation, or its line. Whatever
tries it, in simulated time or on real packets, is a world.
"""

from dataclasses import dataclass
from datetime import datetime
from typing import Literal, Protocol

from wily_sluice.forecast.prove.example import Example
from wily_sluice.units import Direction, Nanoseconds, Rate, Size

FULL: Size = 1500


@dataclass(frozen=True, slots=True)
class Part:
    """What of a plan is at work.

    `rules`: all but the limiters. `trees`: no limiter, and for each leaf one rule that leads there by a port
    (`bench.steered`). `limiter`: of the limiters that called `name` alone.
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

    At a moment, schedules hold or not; without one, all do.
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
    """So many conversations alike, opened one after another while uplinks are `down`, by the plan's routes."""

    example: Example
    many: int = 1
    down: frozenset[str] = frozenset()
    moment: datetime | None = None


@dataclass(frozen=True, slots=True)
class Came:
    """What of a stream came out: its rate on the line in bit/s, and how long its packets waited.

    95 of a hundred waited no longer than `p95`; none longer than `longest`, which on real packets is one of a hundred.
    """

    rate: float
    p95: Nanoseconds
    longest: Nanoseconds


class World(Protocol):
    """Where promises are tried. `slack` is what packets may wait for the machine, beside the plan."""

    slack: Nanoseconds

    def flood(self, asked: Flood) -> tuple[Came, ...]:
        """What came of each stream. CannotTry when that cannot be tried here."""

    def where(self, asked: Where) -> str:
        """The path of the leaf that it goes to; empty when it goes past all of them. CannotTry as well."""

    def lines(self, asked: Led) -> tuple[str, ...]:
        """The line that each takes; empty where no route has one for it. CannotTry as well."""


class CannotTry(Exception):
    """It cannot be tried in this world; says why."""

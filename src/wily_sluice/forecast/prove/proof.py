"""Promises, how each is tried, and in which world.

The tests of promises: streams through a part of the plan, the queue of a conversation, or its uplink. A world runs
them, in simulated time or on real packets.
"""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Literal, NamedTuple, Protocol, TypeAlias

from wily_sluice.forecast.prove.example import Example
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.units import Direction, Nanoseconds, Rate, Size, format_rate

Verdict: TypeAlias = Literal["kept", "broken", "proves nothing", "not tried"]
FULL: Size = 1500
TOLERANCE = 0.03  # of a rate
WITHIN = f"{TOLERANCE:.0%}"
NO_PORTS = "mappings are tried in the lab alone"
UNTRIED = "no conversation was found that goes there"
SUPERFLUOUS = "without it, the test still passes"


@dataclass(frozen=True, slots=True)
class Part:
    """The part of a plan that is active.

    `rules`: all but the limiters. `trees`: no limiter, and for each leaf one rule that leads there by a port
    (`bench.steered`). `limiter`: of the limiters, only the one called `name`.
    """

    kind: Literal["rules", "trees", "limiter"]
    name: str = ""


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


class Opened(NamedTuple):
    """A port that a host asks to have opened, when it has so many `earlier` ones."""

    local: bytes
    protocol: int
    inside: int
    hardware: bytes = b""
    earlier: int = 0


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

    def opened(self, asked: Opened) -> bool:
        """Whether a port is opened. May raise CannotTry."""


class CannotTry(Exception):
    """Why it cannot be tried in this world."""


@dataclass(frozen=True, slots=True)
class Proof:
    """A promise of the plan, its place, and the measurement.

    `kind` is the kind of promise: guarantee, cap, order, limiter, delay, rule, default, route, takeover, traffic,
    schedule, boundary, mapping, failure.

    `expected`, `measured` and `tolerance` are for people; `rate` in bit/s and `p95`, a delay in ns, are the
    measurement, if the promise is a rate or a delay. `cases` are all that is tried, if it is more than the expected
    result says. `why` gives the reason for the verdict. A test that also passes
    without the part of the plan that makes the promise proves nothing.
    """

    kind: str
    name: str
    where: str
    location: Location
    expected: str
    measured: str = "–"
    verdict: Verdict = "not tried"
    why: str = UNTRIED
    tolerance: str = ""
    uplink: str = ""
    rate: float | None = None
    p95: Nanoseconds | None = None
    cases: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Judged:
    """A world's judgement of a promise."""

    kept: bool
    measured: str
    rate: float | None = None
    p95: Nanoseconds | None = None


@dataclass(frozen=True, slots=True)
class Promise:
    """How a promise is tried in a world. `control` tries it without the part of the plan that makes the promise, and
    says what happens if the test still passes. A promise that cannot be tried has no `judge`.
    """

    proof: Proof
    judge: Callable[[World], Judged] | None = None
    control: Callable[[], str] | None = None


def try_in(world: World, promise: Promise) -> Proof:
    """Try it."""
    if promise.judge is None:
        return promise.proof
    try:
        judged = promise.judge(world)
    except CannotTry as reason:
        return replace(promise.proof, why=str(reason))
    proof = replace(promise.proof, measured=judged.measured, rate=judged.rate, p95=judged.p95, why="")
    if not judged.kept:
        return replace(proof, verdict="broken")
    without = promise.control() if promise.control is not None else ""
    return replace(proof, verdict="proves nothing" if without else "kept", why=without)


def rate_of(came: Sequence[Came], which: Iterable[int]) -> float:
    """The total rate of some of the streams, in bit/s."""
    return sum(came[number].rate for number in which)


def figure(rate: float) -> str:
    """A rate with four figures."""
    return format_rate(float(f"{rate:.4g}"))


RULES, TREES = Part("rules"), Part("trees")

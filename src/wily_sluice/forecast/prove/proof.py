"""How a promise is tried, and the result."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal, TypeAlias

from wily_sluice.forecast.prove.setting import Came, CannotTry, World
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.units import Nanoseconds, format_rate

Verdict: TypeAlias = Literal["kept", "broken", "proves nothing", "not tried"]
TOLERANCE = 0.03  # of a rate
WITHIN = f"{TOLERANCE:.0%}"
UNTRIED = "no conversation was found that goes there"
SUPERFLUOUS = "without it, the test still passes"


@dataclass(frozen=True, slots=True)
class Proof:
    """A promise of the plan, its place, and the measurement.

    `kind` is the kind of promise: guarantee, cap, order, limiter, delay, rule, default, route, takeover, traffic,
    schedule, failure.

    `expected`, `measured` and `tolerance` are for people; `rate` in bit/s and `p95`, a delay in ns, are the
    measurement, if the promise is a rate or a delay. `why` gives the reason for the verdict. A test that also passes
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
    told = replace(promise.proof, measured=judged.measured, rate=judged.rate, p95=judged.p95, why="")
    if not judged.kept:
        return replace(told, verdict="broken")
    without = promise.control() if promise.control is not None else ""
    return replace(told, verdict="proves nothing" if without else "kept", why=without)


def rate_of(came: Sequence[Came], which: Iterable[int]) -> float:
    """The total rate of some of the streams, in bit/s."""
    return sum(came[number].rate for number in which)


def figure(rate: float) -> str:
    """A rate with four figures."""
    return format_rate(float(f"{rate:.4g}"))

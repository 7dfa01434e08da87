"""All promises of a plan, kind after kind."""

from collections.abc import Callable, Iterator
from typing import Final

from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.kinds import caps, defaults, delays, guarantees, limiters, rules, schedules
from wily_sluice.forecast.prove.proof import Proof
from wily_sluice.plan.model import Plan

KINDS: Final[tuple[Callable[[Bench], Iterator[Proof]], ...]] = (
    guarantees.prove,
    caps.prove,
    delays.prove,
    limiters.prove,
    rules.prove,
    defaults.prove,
    schedules.prove,
)


def prove(plan: Plan) -> Iterator[Proof]:
    """Every promise of a plan, one after another."""
    bench = Bench(plan)
    for kind in KINDS:
        yield from kind(bench)

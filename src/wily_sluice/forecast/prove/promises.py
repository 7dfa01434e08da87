"""All promises of a plan, kind after kind."""

from collections.abc import Callable, Iterator
from typing import Final

from wily_sluice.forecast.prove import boundaries, conversations, limiters, queues, schedules
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.proof import Promise, Proof, try_in
from wily_sluice.plan.model import Plan

KINDS: Final[tuple[Callable[[Bench], Iterator[Promise]], ...]] = (
    queues.guarantee_promises,
    queues.cap_promises,
    queues.refusal_promises,
    queues.order_promises,
    queues.delay_promises,
    limiters.promises,
    conversations.rule_promises,
    conversations.default_promises,
    conversations.route_promises,
    conversations.traffic_promises,
    schedules.promises,
    boundaries.rule_boundaries,
    boundaries.limiter_boundaries,
    boundaries.route_boundaries,
    boundaries.mapping_promises,
)


def promises(bench: Bench) -> Iterator[Promise]:
    """Every promise of a plan, as its tests."""
    for kind in KINDS:
        yield from kind(bench)


def prove(plan: Plan) -> Iterator[Proof]:
    """Every promise of a plan, tried in the lab one after another."""
    bench = Bench(plan)
    for promise in promises(bench):
        yield try_in(bench, promise)

"""Each leaf gets its guarantee while all others flood."""

from collections.abc import Iterator

from wily_sluice.forecast.prove.bench import (
    NOTHING,
    Bench,
    queue_location,
    with_queue,
    without_limiters,
)
from wily_sluice.forecast.prove.proof import TOLERANCE, UNTRIED, Proof, figure, verdict_of


def prove(bench: Bench) -> Iterator[Proof]:
    """Each leaf gets its guarantee while all others flood."""
    plan = without_limiters(bench.plan)
    for uplink, way in bench.ways():
        streams, tree = bench.full_streams(uplink, way), plan.tree(uplink, way)
        came = dict(zip(streams, bench.flood(uplink, way, list(streams.values()), plan), strict=True))
        for leaf in bench.spec(uplink, way).leaves():
            if not leaf.guarantee:
                continue
            where, at = f"{uplink.name} {way}", queue_location(tree, leaf.path, "guarantee")
            expected = f"at least {figure(leaf.guarantee)} while all others flood"
            if leaf.path not in came:
                yield Proof("guarantee", leaf.path, where, at, expected, "–", "not tried", UNTRIED)
                continue
            least = leaf.guarantee * (1 - TOLERANCE)
            control = with_queue(plan, tree, leaf.path, guarantee=NOTHING)
            other = dict(zip(streams, bench.flood(uplink, way, list(streams.values()), control), strict=True))
            verdict, why = verdict_of(came[leaf.path].rate >= least, other[leaf.path].rate >= least)
            if verdict == "proves nothing":
                why = f"without it, {leaf.path} gets {figure(other[leaf.path].rate)} by its priority and weight"
            yield Proof("guarantee", leaf.path, where, at, expected, figure(came[leaf.path].rate), verdict, why)

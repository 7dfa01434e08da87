"""Each leaf that is capped reaches its cap on an idle line, and no more."""

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
    """Each leaf that is capped reaches its cap on an idle line, and no more."""
    plan = without_limiters(bench.plan)
    for uplink, way in bench.ways():
        tree, root = plan.tree(uplink, way), bench.spec(uplink, way)
        capped = {queue.path for queue in tree.walk() if queue.cap.of(way) is not None and not queue.children}
        streams = bench.full_streams(uplink, way)
        for leaf in root.leaves():
            if leaf.path not in capped:
                continue
            where, at = f"{uplink.name} {way}", queue_location(tree, leaf.path, "cap")
            expected = f"{figure(leaf.cap)} on an idle line"
            if leaf.path not in streams:
                yield Proof("cap", leaf.path, where, at, expected, "–", "not tried", UNTRIED)
                continue
            stream = [streams[leaf.path]]
            rate = bench.flood(uplink, way, stream, plan)[0].rate
            free = bench.flood(uplink, way, stream, with_queue(plan, tree, leaf.path, cap=NOTHING))[0].rate
            kept = abs(rate - leaf.cap) <= leaf.cap * TOLERANCE
            verdict, why = verdict_of(kept, abs(free - leaf.cap) <= leaf.cap * TOLERANCE)
            yield Proof("cap", leaf.path, where, at, expected, figure(rate), verdict, why)

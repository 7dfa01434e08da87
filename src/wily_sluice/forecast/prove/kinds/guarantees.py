"""Each queue gets its guarantee while all others flood."""

from collections.abc import Iterator

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.prove.bench import NOTHING, Bench, queue_location, steered, with_queue
from wily_sluice.forecast.prove.proof import TOLERANCE, WITHIN, Judged, Promise, Proof, figure, rate_of
from wily_sluice.forecast.prove.setting import TREES, Flood, World
from wily_sluice.plan.model import Uplink
from wily_sluice.units import Direction


def promises(bench: Bench) -> Iterator[Promise]:
    """Each queue gets its guarantee while all others flood; a parent, through the leaves below it."""
    for uplink, way in bench.ways():
        for queue in bench.spec(uplink, way).walk():
            if queue.path and queue.guarantee:
                yield _guarantee(bench, uplink, way, queue)


def _guarantee(bench: Bench, uplink: Uplink, way: Direction, queue: QueueSpec) -> Promise:
    tree, streams = bench.plan.tree(uplink, way), bench.full(uplink, way)
    asked = Flood(TREES, uplink.name, way, tuple(streams.values()))
    below = [list(streams).index(leaf.path) for leaf in queue.leaves()]
    least = queue.guarantee * (1 - TOLERANCE)

    def judge(world: World) -> Judged:
        rate = rate_of(world.flood(asked), below)
        return Judged(rate >= least, figure(rate), rate)

    def control() -> str:
        plan = with_queue(steered(bench.plan), tree, queue.path, True, guarantee=NOTHING)
        rate = rate_of(bench.flood(asked, plan), below)
        return f"without it, {queue.path} gets {figure(rate)} by its priority and weight" if rate >= least else ""

    proof = Proof(
        "guarantee",
        queue.path,
        f"{uplink.name} {way}",
        queue_location(tree, queue.path, "guarantee"),
        f"at least {figure(queue.guarantee)} while all others flood",
        tolerance=WITHIN,
        uplink=uplink.name,
    )
    return Promise(proof, judge, control)

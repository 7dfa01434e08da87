"""Each capped queue reaches exactly its cap on an idle line."""

from collections.abc import Iterator

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.prove.bench import NOTHING, Bench, queue_location, steered, with_queue
from wily_sluice.forecast.prove.proof import SUPERFLUOUS, TOLERANCE, WITHIN, Judged, Promise, Proof, figure, rate_of
from wily_sluice.forecast.prove.setting import TREES, Flood, World
from wily_sluice.plan.model import Uplink
from wily_sluice.units import Direction


def promises(bench: Bench) -> Iterator[Promise]:
    """Each capped queue reaches exactly its cap on an idle line; a parent, through all leaves below it."""
    for uplink, way in bench.ways():
        tree = bench.plan.tree(uplink, way)
        capped = {queue.path for queue in tree.walk() if queue.cap.of(way) is not None}
        for queue in bench.spec(uplink, way).walk():
            if queue.path in capped and not queue.leaf.refused:
                yield _cap(bench, uplink, way, queue)


def _cap(bench: Bench, uplink: Uplink, way: Direction, queue: QueueSpec) -> Promise:
    tree, full = bench.plan.tree(uplink, way), bench.full(uplink, way)
    streams = tuple(full[leaf.path] for leaf in queue.leaves())
    asked = Flood(TREES, uplink.name, way, streams)
    below = range(len(streams))
    wanted = min(queue.cap, sum(leaf.cap for leaf in queue.leaves()))
    most = queue.cap * (1 + TOLERANCE)

    def judge(world: World) -> Judged:
        rate = rate_of(world.flood(asked), below)
        return Judged(wanted * (1 - TOLERANCE) <= rate <= most, figure(rate), rate)

    def control() -> str:
        plan = with_queue(steered(bench.plan), tree, queue.path, cap=NOTHING)
        return SUPERFLUOUS if rate_of(bench.flood(asked, plan), below) <= most else ""

    proof = Proof(
        "cap",
        queue.path,
        f"{uplink.name} {way}",
        queue_location(tree, queue.path, "cap"),
        f"{figure(wanted)} on an idle line",
        tolerance=WITHIN,
        uplink=uplink.name,
    )
    return Promise(proof, judge, control)

"""Under a strict parent, the first child gets all that it can take, however much the next one sends."""

from collections.abc import Iterator
from itertools import pairwise

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.prove.bench import Bench, queue_location, steered, with_queue
from wily_sluice.forecast.prove.proof import TOLERANCE, WITHIN, Judged, Promise, Proof, figure, rate_of
from wily_sluice.forecast.prove.setting import TREES, Flood, World
from wily_sluice.plan.model import Uplink
from wily_sluice.units import Direction


def promises(bench: Bench) -> Iterator[Promise]:
    """Each child of a strict parent, together with the next child."""
    for uplink, way in bench.ways():
        for parent in bench.spec(uplink, way).walk():
            if parent.children and parent.discipline == "strict":
                for first, then in pairwise(sorted(parent.children, key=lambda child: child.priority)):
                    if first.priority < then.priority:
                        yield _order(bench, uplink, way, parent, first, then)


def _order(
    bench: Bench, uplink: Uplink, way: Direction, parent: QueueSpec, first: QueueSpec, then: QueueSpec
) -> Promise:
    tree, full = bench.plan.tree(uplink, way), bench.full(uplink, way)
    streams = tuple(full[leaf.path] for child in (first, then) for leaf in child.leaves())
    asked = Flood(TREES, uplink.name, way, streams)
    mine = range(sum(1 for _ in first.leaves()))
    wanted = min(first.cap, parent.cap, sum(leaf.cap for leaf in first.leaves()))
    least = wanted * (1 - TOLERANCE)

    def judge(world: World) -> Judged:
        rate = rate_of(world.flood(asked), mine)
        return Judged(rate >= least, figure(rate), rate)

    def control() -> str:
        plan = with_queue(steered(bench.plan), tree, first.path, priority=then.priority)
        rate = rate_of(bench.flood(asked, plan), mine)
        return f"with the priority of {then.path}, it gets {figure(rate)}" if rate >= least else ""

    proof = Proof(
        "order",
        first.path,
        f"{uplink.name} {way}",
        queue_location(tree, first.path, "priority"),
        f"{figure(wanted)} while {then.path} floods",
        tolerance=WITHIN,
        uplink=uplink.name,
    )
    return Promise(proof, judge, control)

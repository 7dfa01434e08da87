"""Each leaf with a delay keeps it, within its guarantee, while all others flood."""

from collections.abc import Iterator
from dataclasses import replace

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.prove.bench import NOTHING, Bench, queue_location, steered, with_queue
from wily_sluice.forecast.prove.proof import SUPERFLUOUS, Judged, Promise, Proof
from wily_sluice.forecast.prove.setting import FULL, TREES, Flood, World
from wily_sluice.plan.model import Uplink
from wily_sluice.units import Direction, Nanoseconds, format_time, transmission_time

SENT = 0.9  # of its guarantee, so that the delay is owed


def promises(bench: Bench) -> Iterator[Promise]:
    """Each leaf with a delay keeps it, within its guarantee, while all others flood."""
    for uplink, way in bench.ways():
        for leaf in bench.spec(uplink, way).leaves():
            if leaf.leaf.delay is not None:
                yield _delay(bench, uplink, way, leaf, leaf.leaf.delay)


def _delay(bench: Bench, uplink: Uplink, way: Direction, leaf: QueueSpec, delay: Nanoseconds) -> Promise:
    tree, streams = bench.plan.tree(uplink, way), bench.full(uplink, way)
    mine = replace(streams.pop(leaf.path), rate=max(1, round(leaf.guarantee * SENT)))
    asked = Flood(TREES, uplink.name, way, (mine, *streams.values()))
    most = delay + transmission_time(uplink.framing.cost(FULL), uplink.usable(way))

    def judge(world: World) -> Judged:
        came = world.flood(asked)[0]
        return Judged(came.longest <= most + world.slack, format_time(came.longest), came.rate, came.p95)

    def control() -> str:
        queue = next(one for one in tree.walk() if one.path == leaf.path)
        plan = with_queue(steered(bench.plan), tree, leaf.path, leaf=replace(queue.leaf, delay=None), guarantee=NOTHING)
        return SUPERFLUOUS if bench.flood(asked, plan)[0].longest <= most else ""

    proof = Proof(
        "delay",
        leaf.path,
        f"{uplink.name} {way}",
        queue_location(tree, leaf.path, "delay"),
        f"no packet waits over {format_time(most)}",
        uplink=uplink.name,
    )
    return Promise(proof, judge, control)

"""Nothing crosses an uplink that it refuses."""

from collections.abc import Iterator
from dataclasses import replace

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.prove.bench import Bench, steered
from wily_sluice.forecast.prove.proof import SUPERFLUOUS, Judged, Promise, Proof, figure, rate_of
from wily_sluice.forecast.prove.setting import TREES, Flood, World
from wily_sluice.plan.model import Uplink
from wily_sluice.units import Direction

LEAST = 0.001  # of a line: as good as nothing


def promises(bench: Bench) -> Iterator[Promise]:
    """Each leaf that an uplink refuses gets nothing there, even on an idle line."""
    for uplink, way in bench.ways():
        for leaf in bench.spec(uplink, way).leaves():
            if leaf.leaf.refused:
                yield _refusal(bench, uplink, way, leaf)


def _refusal(bench: Bench, uplink: Uplink, way: Direction, leaf: QueueSpec) -> Promise:
    asked = Flood(TREES, uplink.name, way, (bench.full(uplink, way)[leaf.path],))
    least = LEAST * uplink.usable(way)

    def judge(world: World) -> Judged:
        rate = rate_of(world.flood(asked), (0,))
        return Judged(rate < least, figure(rate) if rate >= least else "nothing", rate)

    def control() -> str:
        plan = steered(bench.plan)
        plan = replace(plan, uplinks=tuple(replace(one, refuses=frozenset()) for one in plan.uplinks))
        return SUPERFLUOUS if rate_of(bench.flood(asked, plan), (0,)) < least else ""

    proof = Proof(
        "refusal",
        leaf.path,
        f"{uplink.name} {way}",
        ("uplinks", uplink.name, "refuses"),
        "nothing, even on an idle line",
        uplink=uplink.name,
    )
    return Promise(proof, judge, control)

"""Traffic that no rule matches uses the default leaf."""

from collections.abc import Iterator
from dataclasses import replace

from wily_sluice.forecast.prove.bench import Bench, queue_location
from wily_sluice.forecast.prove.example import examples, meant, rule_of
from wily_sluice.forecast.prove.proof import SUPERFLUOUS, Judged, Promise, Proof
from wily_sluice.forecast.prove.setting import Where, World
from wily_sluice.plan.asking import Terms
from wily_sluice.plan.model import Uplink


def promises(bench: Bench) -> Iterator[Promise]:
    """Traffic that no rule matches uses the default leaf."""
    for uplink in bench.plan.uplinks:
        yield _default(bench, uplink)


def _default(bench: Bench, uplink: Uplink) -> Promise:
    tree = bench.plan.tree(uplink, "up")
    leaf = tree.default.path
    expected = f"traffic that no rule matches uses {leaf}"
    proof = Proof("default", leaf, uplink.name, queue_location(tree, leaf, "default"), expected, uplink=uplink.name)
    shaper = meant(bench.plan, uplink.name)
    example = next((one for one in examples(bench.plan, Terms()) if rule_of(shaper, one) < 0), None)
    if example is None:
        return Promise(replace(proof, why="the rules match everything that was tried"))
    asked = Where(uplink.name, example)

    def judge(world: World) -> Judged:
        went = world.where(asked)
        return Judged(went == leaf, f"goes to {went}" if went else "bypasses the gate")

    return Promise(proof, judge, lambda: SUPERFLUOUS if len(tree.leaves) == 1 else "")

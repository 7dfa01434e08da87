"""What no rule matches goes to the default leaf."""

from collections.abc import Iterator

from wily_sluice.forecast.prove.bench import (
    Bench,
    leaf_of,
    queue_location,
)
from wily_sluice.forecast.prove.example import examples, rule_of
from wily_sluice.forecast.prove.proof import Proof, verdict_of
from wily_sluice.plan.asking import Terms


def prove(bench: Bench) -> Iterator[Proof]:
    """What no rule matches goes to the default leaf."""
    for uplink in bench.plan.uplinks:
        tree = bench.plan.tree(uplink, "up")
        at = queue_location(tree, tree.default.path, "default")
        expected = f"what no rule matches goes to {tree.default.path}"
        shaper = bench.shaper(uplink, "up")
        example = next((one for one in examples(bench.plan, Terms()) if rule_of(shaper, one) < 0), None)
        if example is None:
            why = "the rules match everything that was tried"
            yield Proof("default", tree.default.path, uplink.name, at, expected, "–", "not tried", why)
            continue
        measured = leaf_of(bench, bench.plan, uplink, example)
        verdict, why = verdict_of(measured == tree.default.path, len(tree.leaves) == 1)
        yield Proof("default", tree.default.path, uplink.name, at, expected, f"goes to {measured}", verdict, why)

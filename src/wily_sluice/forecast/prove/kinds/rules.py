"""Each rule brings a conversation that it is about to its queue; without it, that goes elsewhere."""

from collections.abc import Iterator
from dataclasses import replace

from wily_sluice.forecast.prove.bench import (
    Bench,
    leaf_of,
)
from wily_sluice.forecast.prove.example import examples, rule_of
from wily_sluice.forecast.prove.proof import UNTRIED, Proof, verdict_of


def prove(bench: Bench) -> Iterator[Proof]:
    """Each rule brings a conversation that it is about to its queue; without it, that goes elsewhere."""
    plan = bench.plan
    for index, rule in enumerate(plan.sorting):
        asked = rule.terms.asked.get("uplink")
        uplink = next((u for u in plan.uplinks if asked is None or u.name in asked), None)
        if uplink is None:
            continue
        leaf = rule.queues.get(plan.tree(uplink, "up").name, plan.tree(uplink, "up").default.path)
        at, expected = ("rules", rule.index), f"goes to {leaf}"
        shaper = bench.shaper(uplink, "up")
        example = next((one for one in examples(plan, rule.terms) if rule_of(shaper, one) == index), None)
        if example is None:
            yield Proof("rule", rule.name, uplink.name, at, expected, "–", "not tried", UNTRIED)
            continue
        measured = leaf_of(bench, plan, uplink, example)
        rules = tuple(replace(one, enabled=False) if one.index == rule.index else one for one in plan.rules)
        other = leaf_of(bench, replace(plan, rules=rules), uplink, example)
        verdict, why = verdict_of(measured == leaf, other == leaf and rule.mark is None)
        if verdict == "proves nothing":
            why = f"without it, the same conversation goes to {other}"
        yield Proof("rule", rule.name, uplink.name, at, expected, f"goes to {measured}", verdict, why)

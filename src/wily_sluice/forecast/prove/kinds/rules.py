"""Each rule brings a conversation that it is about to its queue; without it, that goes elsewhere."""

from collections.abc import Iterator
from dataclasses import replace

from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.example import Example, examples, meant, rule_of
from wily_sluice.forecast.prove.proof import Judged, Promise, Proof
from wily_sluice.forecast.prove.setting import Where, World
from wily_sluice.plan.model import Plan, Rule, Uplink


def promises(bench: Bench) -> Iterator[Promise]:
    """Each rule brings a conversation that it is about to its queue; without it, that goes elsewhere."""
    for rule in bench.plan.sorting:
        asked = rule.terms.asked.get("uplink")
        uplink = next((u for u in bench.plan.uplinks if asked is None or u.name in asked), None)
        if uplink is not None:
            yield _rule(bench, uplink, rule)


def example_of(bench: Bench, uplink: Uplink, rule: Rule) -> Example | None:
    """A conversation that a rule matches first, if possible one known by its parties alone."""
    plan: Plan = bench.plan
    shaper = meant(plan, uplink.name, bench.within(rule.terms.when))
    index = plan.sorting.index(rule)
    found = [one for one in examples(plan, rule.terms) if rule_of(shaper, one) == index]
    return min(found, key=lambda one: not one.plain, default=None)


def _rule(bench: Bench, uplink: Uplink, rule: Rule) -> Promise:
    plan = bench.plan
    leaf = rule.queues.get(plan.tree(uplink, "up").name, plan.tree(uplink, "up").default.path)
    proof = Proof("rule", rule.name, uplink.name, ("rules", rule.index), f"goes to {leaf}", uplink=uplink.name)
    example = example_of(bench, uplink, rule)
    if example is None:
        return Promise(proof)
    asked = Where(uplink.name, example, bench.within(rule.terms.when))

    def judge(world: World) -> Judged:
        went = world.where(asked)
        return Judged(went == leaf, f"goes to {went}" if went else "bypasses the gate")

    def control() -> str:
        rules = tuple(replace(one, enabled=False) if one.index == rule.index else one for one in plan.rules)
        other = bench.where(asked, replace(plan, rules=rules))
        return f"without it, the same conversation uses {other}" if other == leaf and rule.mark is None else ""

    return Promise(proof, judge, control)

from collections.abc import Callable
from pathlib import Path

from tests.conftest import SMALL_PLAN
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.outside.files import examine
from wily_sluice.plan.build import build_site
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.units import MILLISECOND


def test_a_guarantee_is_of_the_parents_guarantee_and_a_cap_of_its_cap(demo_plan: Plan) -> None:
    specs = {spec.path: spec for spec in resolve(demo_plan, demo_plan.uplinks[0], "up").walk()}
    # 24 Mbit/s less 8%.
    assert (specs[""].guarantee, specs[""].cap) == (22_080_000, 22_080_000)
    # 50% of that; then 60% of the 50%, and a cap of 80% of the parent's cap, which is the whole.
    assert specs["work"].guarantee == 11_040_000
    assert (specs["work/scans"].guarantee, specs["work/scans"].cap) == (6_624_000, 17_664_000)
    assert (specs["calls"].guarantee, specs["calls"].cap) == (2_649_600, 8_832_000)
    assert (specs["rest"].priority, specs["calls"].priority, specs["work/desk"].weight) == (5, 1, 2)
    down = {spec.path: spec for spec in resolve(demo_plan, demo_plan.uplinks[0], "down").walk()}
    assert down["work/scans"].cap == down[""].cap == 165_600_000


def test_below_a_strict_parent_there_is_no_guarantee_and_caps_hold(small_plan: Callable[..., Plan]) -> None:
    nested = "rest: {discipline: strict, guarantee: 50%, queues: {a: {cap: 40%, default: true}, b: {priority: 7}}}"
    plan = small_plan(("rest: {default: true}", nested), ("queue: calls", "queue: b"))
    rest = resolve(plan, plan.uplinks[0], "up").children[1]
    assert rest.guarantee == 4_500_000
    assert [(child.guarantee, child.cap) for child in rest.children] == [(0, 3_600_000), (0, 9_000_000)]


def test_rates_stand_as_they_are_and_none_is_above_its_parents_cap(small_plan: Callable[..., Plan]) -> None:
    plan = small_plan(("calls: {guarantee: 20%", "calls: {guarantee: 3 Mbit/s, cap: {down: 12 Mbit/s, up: 50 Mbit/s}"))
    calls = {d: resolve(plan, plan.uplinks[0], d).children[0] for d in ("up", "down")}
    assert (calls["down"].guarantee, calls["down"].cap) == (3_000_000, 12_000_000)
    assert (calls["up"].guarantee, calls["up"].cap) == (3_000_000, 9_000_000)


def test_an_uplink_may_have_a_tree_for_each_direction_and_rules_follow(small_plan: Callable[..., Plan]) -> None:
    plan = small_plan(
        ("headroom: 10%}", "headroom: 10%, tree: {down: main, up: spare}}"),
        ("trees:", "trees:\n  spare:\n    discipline: curve\n    queues: "
         "{voice: {guarantee: 10%, delay: 15 ms}, any: {default: true}}"),
        ("queue: calls", "queue: {main: calls, spare: voice}"),
    )  # fmt: skip
    assert [(tree.name, ways) for tree, ways in plan.trees_of(plan.uplinks[0])] == [
        ("main", ("down",)),
        ("spare", ("up",)),
    ]
    up = resolve(plan, plan.uplinks[0], "up")
    assert [(leaf.path, leaf.guarantee, leaf.leaf.delay) for leaf in up.leaves()] == [
        ("voice", 900_000, 15 * MILLISECOND),
        ("any", 0, None),
    ]
    call = Conversation(key_of(Parties(17, bytes([10, 7, 0, 4]), bytes([203, 0, 113, 5]), 40_000, 5004)))
    engine = build_site(plan, lambda _: None)
    assert {way: engine.shapers["line", way].leaf_of(call).path for way in ("up", "down")} == {
        "up": "voice",
        "down": "calls",
    }


def test_a_rule_whose_queue_a_tree_lacks_goes_to_its_default_and_check_says_so(tmp_path: Path) -> None:
    text = SMALL_PLAN.replace("headroom: 10%}", "headroom: 10%, tree: {down: main, up: spare}}")
    file = tmp_path / "sluice.yaml"
    file.write_text(text.replace("trees:", "trees:\n  spare: {queues: {any: {default: true}}}"))
    plan, findings = examine(file)
    assert plan is not None
    said = [finding.message for finding in findings if finding.key.startswith("rules")]
    assert ["tree spare, of line, has no such queue: any is used there" in message for message in said] == [True]
    call = Conversation(key_of(Parties(17, bytes([10, 7, 0, 4]), bytes([203, 0, 113, 5]), 40_000, 5004)))
    engine = build_site(plan, lambda _: None)
    assert engine.shapers["line", "up"].leaf_of(call).path == "any"

from collections.abc import Callable

from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve


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

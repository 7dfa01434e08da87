from collections.abc import Callable

from wily_sluice.plan.compare import compare
from wily_sluice.plan.model import Plan

RULES = (("A", 80), ("B", 81))


def test_what_changes_is_said_by_what_it_comes_to_and_whom_it_concerns(small_plan: Callable[..., Plan]) -> None:
    before = small_plan()
    assert compare(before, before) == []
    after = small_plan(
        ("up: 10 Mbit/s", "up: 8 Mbit/s"),
        ("calls: {guarantee: 20%, priority: 1}", "calls: {guarantee: 30%, priority: 1}\n      late: {}"),
        ("  guest: {local: guests, per: host, down: 2 Mbit/s}", "  night: {local: house, up: 1 Mbit/s}"),
        ("rules:\n", "rules:\n  - {name: Guests, local: guests, queue: late}\n"),
        ("port: 5004-5005", "port: 5004"),
    )
    told = {(change.how, change.part, change.name): change for change in compare(before, after)}
    # 10 and 8 Mbit/s less a tenth; of those 20 and 30 per cent.
    assert told["changed", "uplink", "line"].what == "9 Mbit/s → 7.2 Mbit/s up"
    calls = told["changed", "queue on line", "calls"]
    assert "down: guarantee 3.6 Mbit/s → 5.4 Mbit/s" in calls.what
    assert "up: guarantee 1.8 Mbit/s → 2.16 Mbit/s" in calls.what
    assert calls.whom == ("house",)
    assert told["new", "queue on line", "late"].whom == ("guests",)
    assert told["gone", "limiter", "guest"].whom == ("guests",)
    assert told["new", "limiter", "night"].what == "1 Mbit/s up"
    assert told["new", "rule", "Guests"].what == "position 1, to late"
    assert told["changed", "rule", "Calls"].what == "matches other conversations"
    assert told["changed", "queue on line", "rest"].whom == ("hosts that no rule matches",)
    assert {change.how for change in compare(after, before)} == {"new", "gone", "changed"}


def test_a_rule_that_only_changes_its_place_has_moved(small_plan: Callable[..., Plan]) -> None:
    first, second = (f"  - {{name: {name}, local: house, port: {port}, queue: calls}}\n" for name, port in RULES)
    before = small_plan(("rules:\n", f"rules:\n{first}{second}"))
    after = small_plan(("rules:\n", f"rules:\n{second}{first}"))
    (moved,) = compare(before, after)
    assert (moved.how, moved.part) == ("moved", "rule")
    assert (moved.name, moved.what) in {("A", "position 1 → 2"), ("B", "position 2 → 1")}


def test_what_changes_of_a_limiter_is_said_key_by_key(small_plan: Callable[..., Plan]) -> None:
    old = "guest: {local: guests, per: host, down: 2 Mbit/s}"
    before = small_plan()
    for new, said in {
        "enabled: false": "switched off",
        "excess: drop": "excess wait → drop",
        "note: for the summer": "its note",
        "burst: 100 kB": "burst 6.072 kB (default) → 100 kB",  # four full frames
        "engage: above 80%": "engage always → above 80%",
        "quota: 4 GB per day": "quota none → 4 GB per day",
    }.items():
        (change,) = compare(before, small_plan((old, old.replace("down", f"{new}, down"))))
        assert said in change.what, change
        assert change.whom == ("guests",)
    (change,) = compare(before, small_plan((old, old.replace("per: host", "per: subnet/28"))))
    assert change.what == "per host → subnet/28"
    (change,) = compare(before, small_plan((old, old.replace("local: guests", "local: 10.7.1.5"))))
    assert change.what == "matches other conversations"


def test_a_schedule_that_changes_says_what_it_governs(small_plan: Callable[..., Plan]) -> None:
    def plan(windows: str) -> Plan:
        return small_plan(
            ("trees:", f"schedules:\n  late: [{windows}]\n  spare: [sun 10:00-12:00]\ntrees:"),
            ("down: 2 Mbit/s", "down: 2 Mbit/s, when: late"),
            ("port: 5004-5005", "port: 5004-5005, when: late"),
        )

    (change,) = compare(plan("18:00-22:00"), plan("18:00-23:00, not 2027-12-25"))
    assert (change.how, change.part, change.name) == ("changed", "schedule", "late")
    assert change.what == "18:00-22:00 → 18:00-23:00, not 2027-12-25; when limiter guest and rule Calls apply"
    assert change.whom == ("guests", "house")

"""Each promise is a test that passes on the engine, and fails when that promise alone is not kept."""

from collections.abc import Callable
from dataclasses import replace
from typing import Any
from xml.etree import ElementTree

import pytest

from wily_sluice.engine.packet import Packet
from wily_sluice.engine.site import SiteEngine
from wily_sluice.forecast.prove import bench as where
from wily_sluice.forecast.prove.bench import NOTHING, with_queue
from wily_sluice.forecast.prove.promises import prove
from wily_sluice.forecast.prove.proof import Proof
from wily_sluice.plan.build import build_site
from wily_sluice.plan.file.yaml_text import parse
from wily_sluice.plan.model import Directional, Plan
from wily_sluice.views.forecast.prove import junit_xml, proofs_data

PLAN = """\
site: Promises
uplinks:
  line: {interface: wan0, down: 10 Mbit/s, up: 4 Mbit/s, tree: {down: main, up: other}}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24, "fd07::/64"]}
  guests: {interface: lan1, subnets: [10.7.1.0/24]}
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 2, cap: 50%}
      work: {guarantee: 30%, priority: 5}
      bulk: {guarantee: 10%, priority: 8}
      rest: {guarantee: 20%, priority: 1, default: true}
  other:
    discipline: curve
    queues:
      calls: {guarantee: 20%, delay: 20 ms}
      work: {weight: 8}
      bulk: {weight: 8}
      rest: {default: true, weight: 8}
limiters:
  guest-each: {local: guests, per: host, down: 1 Mbit/s}
  gentle: {local: 10.7.0.200, down: 2 Mbit/s, engage: above 80%}
  month: {local: 10.7.0.201, down: 1 Mbit/s, quota: 40 GB per month}
  evening: {local: 10.7.0.202, down: 3 Mbit/s, when: evenings}
schedules:
  evenings: [mon-fri 18:00-22:00]
rules:
  - {name: Calls, service: calls, queue: calls}
  - {name: Marked, dscp: EF, local: house, queue: calls, mark: CS1}
  - {name: Work, local: house, port: [443/tcp, 5000], version: 4, queue: work}
  - {name: Long, moved: over 20 MB, queue: bulk}
  - {name: Never, protocol: udp, all: {protocol: tcp}, queue: bulk}
"""
Sabotage = Callable[[Plan], Plan]


@pytest.fixture
def plan(small_plan: Callable[..., Plan], tmp_path: Any) -> Plan:
    small_plan()
    from wily_sluice.outside.files import load

    file = tmp_path / "promises.yaml"
    file.write_text(PLAN)
    return load(file)


def proofs(plan: Plan) -> dict[tuple[str, str, str], Proof]:
    return {(one.kind, one.name, one.where): one for one in prove(plan)}


def test_a_sound_engine_keeps_every_promise_and_each_test_can_fail(plan: Plan) -> None:
    found = proofs(plan)
    assert not [one for one in found.values() if one.verdict == "broken"]
    assert {key for key, one in found.items() if one.verdict == "not tried"} == {("rule", "Never", "line")}
    nothing = {key for key, one in found.items() if one.verdict == "proves nothing"}
    assert nothing == {("guarantee", "rest", "line down")}  # its first priority gives it more
    # 20% of 9.2 Mbit/s; what a curve parent promises, within 20 ms and one packet of 1518 bytes at 3.68 Mbit/s.
    assert found["guarantee", "calls", "line down"].expected == "at least 1.84 Mbit/s while all others flood"
    assert found["delay", "calls", "line up"].expected == "no packet waits over 23.3 ms"
    assert found["rule", "Long", "line"].measured == "goes to bulk"
    assert found["limiter", "month", "line down"].expected == "1 Mbit/s after 40 GB"
    assert found["schedule", "evening", "evenings"].expected == "applies on Mon 04 Jan 18:30, not on Mon 04 Jan 00:00"
    assert found["default", "rest", "line"].measured == "goes to rest"
    assert found["limiter", "guest-each", "line down"].expected == "2 Mbit/s for 2 hosts"


def without_guarantee(plan: Plan) -> Plan:
    return with_queue(plan, plan.trees["main"], "work", guarantee=NOTHING)


def halved_guarantee(plan: Plan) -> Plan:
    tenth = parse_amount("5%")
    return with_queue(plan, plan.trees["main"], "bulk", guarantee=Directional(tenth, tenth))


def parse_amount(text: str) -> Any:
    from wily_sluice.units import parse_amount as parse_it

    return parse_it(text)


def without_cap(plan: Plan) -> Plan:
    return with_queue(plan, plan.trees["main"], "calls", cap=NOTHING)


def without_delay(plan: Plan) -> Plan:
    queue = plan.trees["other"].queues[0]
    return with_queue(plan, plan.trees["other"], "calls", leaf=replace(queue.leaf, delay=None), guarantee=NOTHING)


def limiter(name: str, **changes: Any) -> Sabotage:
    def changed(plan: Plan) -> Plan:
        return replace(
            plan, limiters=tuple(replace(one, **changes) if one.name == name else one for one in plan.limiters)
        )

    return changed


def without_rule(name: str) -> Sabotage:
    def changed(plan: Plan) -> Plan:
        return replace(plan, rules=tuple(replace(one, enabled=one.enabled and one.name != name) for one in plan.rules))

    return changed


@pytest.mark.parametrize(
    ("sabotage", "broken"),
    [
        (without_guarantee, {("guarantee", "work", "line down")}),
        (halved_guarantee, {("guarantee", "bulk", "line down")}),
        (without_cap, {("cap", "calls", "line down")}),
        (without_delay, {("guarantee", "calls", "line up"), ("delay", "calls", "line up")}),
        (limiter("guest-each", down=2_000_000), {("limiter", "guest-each", "line down")}),
        (limiter("guest-each", enabled=False), {("limiter", "guest-each", "line down")}),
        (limiter("month", quota=None, down=9_000_000), {("limiter", "month", "line down")}),
        (limiter("evening", when=None), {("schedule", "evening", "evenings")}),
        (limiter("gentle", threshold=None, down=3_000_000), {("limiter", "gentle", "line down")}),
    ],
    ids=[
        "no guarantee",
        "half a guarantee",
        "no cap",
        "no delay",
        "double rate",
        "no limiter",
        "no quota",
        "no schedule",
        "other limit",
    ],
)
def test_what_an_engine_does_not_keep_is_told_and_nothing_else(
    plan: Plan, monkeypatch: pytest.MonkeyPatch, sabotage: Sabotage, broken: set[tuple[str, str, str]]
) -> None:
    """The engine is that of another plan than the one whose promises are tried."""

    def build(wanted: Plan, drop: Callable[[Packet], None]) -> SiteEngine:
        enabled = {one.name: one.enabled for one in wanted.limiters}
        done = sabotage(wanted)
        kept = tuple(replace(one, enabled=one.enabled and enabled[one.name]) for one in done.limiters)
        return build_site(replace(done, limiters=kept), drop)

    monkeypatch.setattr(where, "build_site", build)
    assert {key for key, one in proofs(plan).items() if one.verdict == "broken"} == broken


def test_a_rule_without_which_the_same_happens_proves_nothing(plan: Plan) -> None:
    doubled = replace(plan, rules=(*plan.rules, replace(plan.rules[0], name="Again", index=5)))
    found = proofs(doubled)
    assert found["rule", "Calls", "line"].verdict == "proves nothing"


def test_the_results_are_junit_xml_and_data(plan: Plan) -> None:
    found = list(proofs(plan).values())
    suite = ElementTree.fromstring(junit_xml(plan, found))
    assert int(suite.attrib["tests"]) == len(found) == len(suite.findall("testcase"))
    assert suite.attrib["failures"] == "0" and len(suite.findall("testcase/skipped")) == 2
    data = proofs_data(plan, found)["promises"]
    line = next(number for number, text in enumerate(PLAN.splitlines(), 1) if "bulk: {guarantee: 10%" in text)
    assert next(one["line"] for one in data if one["name"] == "bulk") == line
    assert parse(PLAN)[0]["site"] == suite.attrib["name"]

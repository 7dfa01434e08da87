"""Each promise is a test that passes on the engine, and fails when that promise alone is not kept."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from xml.etree import ElementTree

import pytest

from tests.forecast.sabotage import PLAN, ROUTED, SABOTAGES, Key, spoilt
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.site import SiteEngine
from wily_sluice.forecast.prove import bench as where
from wily_sluice.forecast.prove.promises import promises, prove
from wily_sluice.forecast.prove.proof import Led, Proof, try_in
from wily_sluice.outside.files import load
from wily_sluice.plan.build import build_site
from wily_sluice.plan.file.yaml_text import parse
from wily_sluice.plan.model import Plan
from wily_sluice.views.forecast.prove import junit_xml, proofs_data

KINDS = ("route", "takeover")


@pytest.fixture
def plan(tmp_path: Path) -> Plan:
    file = tmp_path / "promises.yaml"
    file.write_text(PLAN)
    return load(file)


def proofs(plan: Plan) -> dict[Key, Proof]:
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
    assert found["schedule", "evening", "evenings"].expected == "applies from Mon 28 Dec 18:00 until 22:00"
    assert found["default", "rest", "line"].measured == "goes to rest"
    assert found["limiter", "guest-each", "line down"].expected == "2 Mbit/s for 2 hosts"
    assert found["order", "work/first", "line up"].expected == "3.68 Mbit/s while work/then floods"


@pytest.mark.parametrize("name", SABOTAGES)
def test_what_an_engine_does_not_keep_is_told_and_nothing_else(
    plan: Plan, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    def build(wanted: Plan, drop: Callable[[Packet], None]) -> SiteEngine:
        return build_site(spoilt(wanted, name), drop)

    monkeypatch.setattr(where, "build_site", build)
    broken = {key for key, one in proofs(plan).items() if one.verdict == "broken"}
    assert {key for key in broken if key[0] != "boundary"} == SABOTAGES[name][1]


def test_a_rule_without_which_the_same_happens_proves_nothing(plan: Plan) -> None:
    doubled = replace(plan, rules=(*plan.rules, replace(plan.rules[0], name="Again", index=5)))
    found = proofs(doubled)
    assert found["rule", "Calls", "line"].verdict == "proves nothing"


class NoRoutes(where.Bench):
    """A world that leads everything over the first line."""

    def lines(self, asked: Led, plan: Plan | None = None) -> tuple[str, ...]:
        return ("fibre",) * asked.many if plan is None else super().lines(asked, plan)


def test_routes_are_promises_that_a_world_keeps_or_not(tmp_path: Path) -> None:
    (tmp_path / "routed.yaml").write_text(ROUTED)
    plan = load(tmp_path / "routed.yaml")
    found = {key: one for key, one in proofs(plan).items() if key[0] in KINDS}
    assert found["route", "Shared", "fibre and mobile"].measured == "3 over fibre and 1 over mobile"
    assert {key: one.why for key, one in found.items() if one.verdict != "kept"} == {
        ("takeover", "Calls", "fibre"): "without `else`, the same goes over fibre",
        ("route", "Spare", "fibre"): "without it, the same goes over fibre",
    }
    world = NoRoutes(plan)
    tried = [try_in(world, promise) for promise in promises(where.Bench(plan)) if promise.proof.kind in KINDS]
    assert [(one.kind, one.name) for one in tried if one.verdict == "broken"] == [
        ("route", "Calls"),
        ("route", "Office"),
        ("route", "Shared"),
        ("route", "Own"),
        ("route", "Evening"),
        ("takeover", "Rest"),
    ]


def test_a_route_is_not_broken_where_its_line_refuses_what_it_matches(tmp_path: Path) -> None:
    (tmp_path / "routed.yaml").write_text(ROUTED.replace("up: 10 Mbit/s}", "up: 10 Mbit/s, refuses: [calls]}"))
    plan = load(tmp_path / "routed.yaml")
    found = {key: one for key, one in proofs(plan).items() if key[0] in KINDS}
    assert found["route", "Calls", "mobile"].verdict == "not tried"
    assert found["route", "Calls", "mobile"].why == "mobile refuses the queue of every conversation that was found"
    assert found["route", "Evening", "mobile"].verdict == found["takeover", "Rest", "mobile"].verdict == "kept"
    assert "broken" not in {one.verdict for one in found.values()}


def test_the_results_are_junit_xml_and_data(plan: Plan) -> None:
    found = list(proofs(plan).values())
    suite = ElementTree.fromstring(junit_xml(plan, found))
    assert int(suite.attrib["tests"]) == len(found) == len(suite.findall("testcase"))
    assert suite.attrib["failures"] == "0" and len(suite.findall("testcase/skipped")) == 2
    data = proofs_data(plan, found)["promises"]
    line = next(number for number, text in enumerate(PLAN.splitlines(), 1) if "bulk: {guarantee: 10%" in text)
    assert next(one["line"] for one in data if one["name"] == "bulk") == line
    assert parse(PLAN)[0]["site"] == suite.attrib["name"]
    # 2 Mbit/s of packets of 1518 bytes on the line, of which 1460 are data.
    limited = next(one for one in data if one["name"] == "guest-each")
    assert limited["data_rate"] == pytest.approx(2e6 * 1460 / 1518, rel=0.01) and limited["within"] == "3%"

"""A first plan is what an expert would sign, whatever the line and whatever matters most."""

from datetime import UTC, datetime
from itertools import pairwise, permutations
from pathlib import Path
from random import Random

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import DRAW
from wily_sluice.engine.classify.header import TCP, UDP, Parties
from wily_sluice.engine.packet import LARGEST_PACKET
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.lab.run import Lab
from wily_sluice.forecast.lab.usual_traffic import DELAY, usual_traffic
from wily_sluice.outside.plan_edits import TextFile
from wily_sluice.plan import read
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.start.answers import LINE_KINDS, PURPOSES, read_answers
from wily_sluice.plan.start.write import write_plan
from wily_sluice.sorting.explain import Described, explain
from wily_sluice.units import DIRECTIONS, MILLISECOND, transmission_time

# Mbit/s down and up.
LINES = (
    ((2, 0.5), "copper-login"), ((4, 0.75), "copper-login"), ((6, 1), "copper-login"), ((8, 1), "copper-login"),
    ((16, 1), "copper-login"), ((16, 2), "fibre"), ((25, 5), "cable"), ((50, 10), "cable"), ((62, 16), "copper-login"),
    ((100, 20), "cable"), ((100, 40), "copper-login"), ((175, 40), "router"), ((250, 40), "cable"),
    ((300, 100), "fibre-login"), ((500, 500), "fibre"), ((920, 48), "cable"), ((1000, 50), "cable"),
    ((1000, 1000), "fibre"), ((2500, 1000), "fibre-login"), ((10_000, 10_000), "fibre"),
)  # fmt: skip
RATES = ((16, 2), (50, 10), (62, 16), (100, 20), (250, 40), (500, 500), (1000, 1000))
HOST, GUEST = bytes((192, 0, 2, 9)), bytes((198, 51, 100, 9))
EVENING = datetime(2026, 12, 1, 20, tzinfo=UTC)
REMOTE = bytes((203, 0, 113, 7))
FAMILY = {
    "uplinks": {"cable": {"interface": "wan0", "kind": "cable", "measured": {"down": "100 Mbit/s", "up": "20 Mbit/s"}}},
    "first": ["calls", "play"],
}


def plan_of(**answers: object) -> Plan:
    whole = {
        "site": "Heron Cottage",
        "networks": {
            "home": {"interface": "lan0", "subnets": ["192.0.2.0/24"]},
            "guests": {"interface": "lan1", "subnets": ["198.51.100.0/24"]},
        },
        "guests": {"network": "guests", "down": "1 Mbit/s", "up": "300 kbit/s"},
        "films": ["films.example"],
        "when": ["18:00-23:00"],
        **answers,
    }
    text = write_plan(read_answers(TextFile(Path("answers"), yaml.safe_dump(whole, sort_keys=False).encode())))
    plan, findings = read.examine(TextFile(Path("sluice.yaml"), text.encode()))
    assert plan is not None and findings == [], findings
    return plan


def leaves(plan: Plan, way: str) -> dict[str, QueueSpec]:
    return {leaf.path: leaf for leaf in resolve(plan, plan.uplinks[0], "up" if way == "up" else "down").leaves()}


@settings(max_examples=40)
@given(
    st.sampled_from(list(LINE_KINDS)),
    st.sampled_from(RATES),
    st.permutations(list(PURPOSES)).flatmap(lambda order: st.integers(0, 4).map(lambda many: order[:many])),
    st.booleans(),
)
def test_guests_are_last_and_acknowledgements_never_starve(
    kind: str, rates: tuple[int, int], first: list[str], alike: bool
) -> None:
    measured = {"down": f"{rates[0]} Mbit/s", "up": f"{rates[1]} Mbit/s"}
    line = {"interface": "wan0", "kind": kind, "measured": measured}
    plan = plan_of(uplinks={"line": line}, first=first, alike=alike)
    framing = plan.uplinks[0].framing
    for way in DIRECTIONS:
        found, other = leaves(plan, way), leaves(plan, "down" if way == "up" else "up")
        assert all(leaf.priority < found["guests"].priority for path, leaf in found.items() if path != "guests")
        assert found["base"].cap < plan.uplinks[0].usable(way) // 5
        for path, leaf in found.items():
            if path in ("base", "acks") or PURPOSES.get(path, PURPOSES["web"]).small:
                continue
            needed = other[path].cap / framing.cost(LARGEST_PACKET) / 2 * framing.cost(52)
            assert found.get("acks", leaf).guarantee >= min(needed, 0.44 * leaf.cap) * 0.99, path


def test_every_conversation_of_an_evening_goes_where_it_belongs() -> None:
    plan = plan_of(**FAMILY)

    def queue(port: int, protocol: int = TCP, local: bytes = HOST, **known: object) -> str:
        described = Described(Parties(protocol, local, REMOTE, 50_000, port), **known)  # type: ignore[arg-type]
        return explain(plan, list(plan.uplinks), described, EVENING).ways["cable"]["down"].queue

    film = {"seen": "tls", "names": ("films.example",), "shape": "bulk"}
    assert queue(443, **film) == queue(443, **film, moved=90_000_000) == "streaming"
    assert queue(443, **{**film, "names": ("other.example",)}) != "updates"
    assert queue(443, seen="tls", shape="bulk", moved=21_000_000) == "downloads"
    assert queue(443, UDP, seen="quic", shape="bulk", moved=21_000_000) == "downloads"
    assert queue(443, seen="tls") == "web"
    assert queue(80, seen="http", shape="bulk") == "updates"
    assert queue(80, seen="http") == "web"
    assert queue(31_000, shape="bulk") == queue(31_000, UDP, shape="bulk") == "downloads"  # whatever it is, not work
    assert queue(31_000, UDP, shape="interactive") == "play"
    assert queue(51_413, seen="bittorrent", shape="bulk") == "swarms"
    assert queue(22, seen="ssh", shape="bulk") == "work"
    assert queue(443, local=GUEST, **film) == "guests"


def test_a_conversation_that_several_services_match_is_told_with_all_of_them() -> None:
    plan = plan_of(**FAMILY)
    film = Described(Parties(TCP, HOST, REMOTE, 50_000, 443), ("films.example",), "tls", shape="bulk")
    answer = explain(plan, list(plan.uplinks), film, EVENING)
    assert (answer.service, answer.category) == ("films", "streaming")
    assert {("web-pages", "web"), ("web-in-bulk", "downloads")} <= set(answer.also)
    names = Described(Parties(UDP, HOST, REMOTE, 50_000, 53), seen="dns")
    assert explain(plan, list(plan.uplinks), names, EVENING).also == ()


def line(rates: tuple[float, float], kind: str) -> dict[str, object]:
    measured = {way: f"{rate} Mbit/s" for way, rate in zip(("down", "up"), rates, strict=True)}
    return {"line": {"interface": "wan0", "kind": kind, "measured": measured}}


@pytest.mark.parametrize(("rates", "kind"), LINES)
def test_what_matters_more_never_gets_less_and_nothing_is_found(rates: tuple[float, float], kind: str) -> None:
    rankings = list(permutations(PURPOSES, 3))
    for first in rankings if DRAW == "anew" else Random(rates[0]).sample(rankings, 12):
        plan = plan_of(uplinks=line(rates, kind), first=list(first))
        for way in DIRECTIONS:
            found = leaves(plan, way)
            for more, less in pairwise(first):
                assert found[more].guarantee >= found[less].guarantee, first
                if PURPOSES[more].small == PURPOSES[less].small:
                    assert found[more].priority <= found[less].priority, first
            assert sum(leaf.guarantee for leaf in found.values()) <= plan.uplinks[0].usable(way)


def test_acknowledgements_are_given_what_their_direction_needs() -> None:
    found = leaves(plan_of(uplinks=line((920, 48), "cable"), first=["web"]), "down")
    assert found["acks"].guarantee < 0.02 * 920e6 and found["web"].guarantee > 0.18 * 920e6 * 0.85


@pytest.mark.parametrize(("rates", "kind"), [LINES[4], LINES[5], LINES[7]])
def test_a_call_is_on_time_on_a_slow_line(rates: tuple[float, float], kind: str) -> None:
    plan = plan_of(uplinks=line(rates, kind), first=["web", "swarms", "updates"])
    run = Lab(plan, usual_traffic(plan, 4_000), True, None).run()
    calls = {row.way: row.measured for row in run.rows if row.name == "Call"}
    for way in DIRECTIONS:
        # A full frame that is on its way is not interrupted, and what waits at the provider cannot be overtaken.
        frame = transmission_time(plan.uplinks[0].framing.cost(LARGEST_PACKET), plan.uplinks[0].usable(way))
        most = 20 * MILLISECOND + (frame if frame > 10 * MILLISECOND else 0)
        assert (calls[way].p99 or 1e12) < DELAY + most, way
        assert calls[way].loss == 0

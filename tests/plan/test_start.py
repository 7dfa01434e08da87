"""A first plan is what an expert would sign, whatever the line and whatever matters most."""

from datetime import UTC, datetime
from pathlib import Path

import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from wily_sluice.engine.classify.header import TCP, UDP, Parties
from wily_sluice.engine.packet import LARGEST_PACKET
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.outside.plan_edits import TextFile
from wily_sluice.plan import read
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.start.answers import LINE_KINDS, PURPOSES, read_answers
from wily_sluice.plan.start.write import write_plan
from wily_sluice.sorting.explain import Described, explain
from wily_sluice.units import DIRECTIONS

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
    text = write_plan(read_answers(TextFile(Path("answers"), yaml.safe_dump(whole).encode())))
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

"""Whatever a rule, a limiter or a route matches too much or too little, a proof finds it."""

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

import pytest

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.shaper import Shaper
from wily_sluice.forecast.prove.bench import Bench, part_of
from wily_sluice.forecast.prove.promises import promises
from wily_sluice.forecast.prove.proof import RULES, Flood, Led, Promise, Where, try_in
from wily_sluice.outside.files import load
from wily_sluice.plan.model import Limiter, Plan, Route, Rule
from wily_sluice.plan.terms import Grant, Members, Party
from wily_sluice.units import Direction

PLAN = """\
site: Boundaries
uplinks:
  fibre: {interface: wan0, down: 40 Mbit/s, up: 40 Mbit/s}
  mobile: {interface: wan1, down: 30 Mbit/s, up: 30 Mbit/s}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24, "fd07::/64"]}
  guests: {interface: lan1, subnets: [10.7.1.0/24]}
services: {league: {ports: [41100-41120/udp], names: ["*.league.example"]}}
schedules: {evenings: [18:00-22:00]}
trees:
  main:
    queues: {a: {}, b: {}, c: {}, d: {}, e: {}, f: {}, g: {}, h: {}, rest: {default: true, guarantee: 50%}}
limiters:
  phones: {local: 10.7.0.40-10.7.0.59, per: host, down: 2 Mbit/s}
  visitors: {network: guests, down: 3 Mbit/s, up: 2 Mbit/s}
  ports: {local: house, protocol: tcp, port: 8000-8010, up: 4 Mbit/s}
  far: {remote: 203.0.113.64/26, per: address, down: 1 Mbit/s}
  swarms: {service: league, down: 2 Mbit/s}
  spare: {local: house, remote: 198.51.100.0/25, uplink: mobile, up: 3 Mbit/s}
rules:
  - {name: Phones, local: 10.7.0.40-10.7.0.59, protocol: udp, port: 5004-5005, queue: a}
  - {name: Guests, network: guests, port: 80/tcp, queue: b}
  - {name: Far, remote: [203.0.113.64/26, "*.films.example"], queue: c}
  - {name: Marked, dscp: EF, version: 4, queue: d}
  - {name: League, service: league, queue: e}
  - {name: Long, local: house, remote-port: 443, moved: over 1 MB, queue: f}
  - {name: Mobile, uplink: mobile, local-port: 6000-6010, queue: g}
  - {name: But, local: house, remote-port: 22, not: {local: 10.7.0.9}, when: evenings, queue: h}
  - {name: Span, local: 10.7.0.100-10.7.0.110, remote-port: 7000-7010, protocol: tcp, queue: a}
  - {name: Small, remote: 198.51.100.64/26, local-port: 9000-9010, protocol: udp, queue: b}
routes:
  - {name: Backups, local: 10.7.0.80, remote-port: 873, uplink: mobile}
  - {name: Films, remote: 203.0.113.0/28, uplink: mobile}
  - {name: Rest, uplink: fibre}
mappings:
  - {name: Consoles, local: 10.7.0.60-10.7.0.62, protocol: udp, port: 3000-3009, count: 2, uplink: fibre}
"""


class Mistake(NamedTuple):
    """Which list of the plan, which of its parts, the field, and what stands there instead; None removes it."""

    section: str
    index: int
    key: str
    value: Any

    def planted(self, plan: Plan) -> Plan:
        parts = list(getattr(plan, self.section))
        parts[self.index] = _with(parts[self.index], self.key, self.value)
        return replace(plan, **{self.section: tuple(parts)})


_OF_LIMITER = {"local": "local", "network": "network", "remote": "remote", "protocol": "protocols", "port": "ports"}


def wrong_grants(grant: Grant) -> Iterator[Grant]:
    """For other hosts, ports and protocols, and for another number of ports."""
    for value in _wrong_values("local", grant.local):
        if value is not None:
            yield replace(grant, local=value)
    ((protocol, ((first, last),)),) = grant.ports.items()
    for span in ((first - 1, last), (first, last + 1), (first + 1, last), (first, last - 1)):
        yield replace(grant, ports={protocol: (span,)})
    yield replace(grant, ports={6: ((first, last),), 17: ((first, last),)})
    yield replace(grant, ports={6: ((first, last),)})
    yield replace(grant, count=grant.count + 1)
    yield replace(grant, count=0)


def _with(part: Rule | Route | Limiter, key: str, value: Any) -> Rule | Route | Limiter:
    if isinstance(part, Limiter):
        name = {**_OF_LIMITER, "service": "services", "uplink": "uplink"}[key]
        return replace(part, **{name: value.services if key == "service" and value else value})
    if key == "not":
        return replace(part, terms=replace(part.terms, none=()))
    asked = {word: known for word, known in part.terms.asked.items() if word != key}
    return replace(part, terms=replace(part.terms, asked=asked | ({key: value} if value is not None else {})))


def _wrong_values(key: str, value: Any) -> Iterator[Any]:
    """None, a little more, and a little less. No host has the address before a network, or its first, or last."""
    yield None
    if isinstance(value, Party) and value.words in (("house",), ("guests",)):
        yield Party(value.words, Members(AddressSet([(bytes((10, 7, 2, 0)), bytes((10, 7, 2, 255)))])))
    elif isinstance(value, Party):
        for first, last in value.addresses:
            begin, end, width = int.from_bytes(first), int.from_bytes(last), len(first)
            wrong = [(begin, end + 1), (begin - 1, end), (end + 1, end + 9)]
            wrong += [(begin + 1, end), (begin, end - 1)] if begin < end else []
            for some in wrong if width == 4 else ():
                addresses = AddressSet([(some[0].to_bytes(width), some[1].to_bytes(width))])
                yield Party(value.words, replace(value.members, addresses=addresses))
        if value.members.names:
            yield Party(value.words, Members(value.addresses))
            yield Party(value.words, replace(value.members, names=frozenset({"*.example"})))
    elif key in ("port", "local-port", "remote-port"):
        ((first, last),) = value
        yield ((first, last + 1),)
        yield ((first - 1, last),)
        yield ((last + 1, last + 9),)
        yield from [((first + 1, last),), ((first, last - 1),)] if first < last else []
    elif key == "protocol":
        yield (6, 17)
        yield (132,)
    elif key == "dscp":
        yield (*value, value[0] + 1)
        yield (value[0] - 1,)
    elif key == "version":
        yield 6
    elif key == "moved":
        yield (value[0] // 2, value[1])
        yield (value[0] * 3, value[1])


def mistakes(plan: Plan) -> Iterator[Mistake]:
    for section in ("rules", "limiters", "routes"):
        for index, part in enumerate(getattr(plan, section)):
            if part.terms.none:
                yield Mistake(section, index, "not", None)
            for terms in part.terms.walk():
                if terms is part.terms or terms in part.terms.all:
                    for key, value in terms.asked.items():
                        yield from (Mistake(section, index, key, wrong) for wrong in _wrong_values(key, value))
            if section == "limiters" and part.uplink is not None:
                yield Mistake(section, index, "uplink", None)
                yield Mistake(section, index, "uplink", "fibre")


class Spoilt(Bench):
    """The lab, with an engine that was built of a plan with a mistake."""

    def __init__(self, plan: Plan, mistake: Mistake) -> None:
        super().__init__(plan)
        self._spoilt = mistake.planted(plan)

    def shaper(self, asked: Flood | Where, way: Direction = "up", plan: Plan | None = None) -> Shaper:
        if plan is None:
            plan = part_of(self._spoilt, asked.part if isinstance(asked, Flood) else RULES)
        return super().shaper(asked, way, plan)

    def lines(self, asked: Led, plan: Plan | None = None) -> tuple[str, ...]:
        return super().lines(asked, plan if plan is not None else self._spoilt)


def test_each_mistake_in_a_mapping_is_found(plan: Plan) -> None:
    (promise,) = (promise for promise in promises(Bench(plan)) if promise.proof.kind == "mapping")
    assert try_in(Bench(plan), promise).verdict == "kept"
    grants = list(wrong_grants(plan.grants[0]))
    assert len(grants) >= 10
    for grant in grants:
        assert try_in(Bench(replace(plan, grants=(grant,))), promise).verdict == "broken", grant


@pytest.fixture(scope="module")
def plan(tmp_path_factory: pytest.TempPathFactory) -> Plan:
    file: Path = tmp_path_factory.mktemp("boundaries") / "sluice.yaml"
    file.write_text(PLAN)
    return load(file)


@pytest.fixture(scope="module")
def tests(plan: Plan) -> list[Promise]:
    kinds = ("rule", "limiter", "route", "boundary", "schedule")
    return [promise for promise in promises(Bench(plan)) if promise.proof.kind in kinds]


def test_a_sound_engine_matches_neither_too_much_nor_too_little(plan: Plan, tests: list[Promise]) -> None:
    world = Bench(plan)
    tried = [try_in(world, promise) for promise in tests]
    assert not [proof for proof in tried if proof.verdict in ("broken", "not tried")]
    bounded = {proof.name for proof in tried if proof.kind == "boundary"}
    assert bounded == {part.name for part in (*plan.rules, *plan.limiters, *plan.routes[:2])}


def test_each_of_a_hundred_mistakes_is_found(plan: Plan, tests: list[Promise]) -> None:
    planted = list(mistakes(plan))
    assert len(planted) >= 100
    missed = []
    for mistake in planted:
        name = getattr(plan, mistake.section)[mistake.index].name
        own = [promise for promise in tests if promise.proof.name == name]
        world = Spoilt(plan, mistake)
        if not any(try_in(world, promise).verdict == "broken" for promise in own):
            missed.append((name, mistake.key, mistake.value))
    assert not missed, missed

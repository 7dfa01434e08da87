"""Grants of mappings and kept ports: how they are read, shown, compared and followed by renames."""

from pathlib import Path

import pytest

from wily_sluice.outside.files import examine, load
from wily_sluice.plan.compare import compare
from wily_sluice.plan.edit.edits import Edits
from wily_sluice.plan.edit.text import apply
from wily_sluice.plan.file.yaml_text import parse
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.views.text.sentences import grant_sentence

PLAN = """\
site: Ports
uplinks:
  fibre: {interface: wan0, down: 50 Mbit/s, up: 10 Mbit/s, probe: [203.0.113.1]}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s, probe: [203.0.113.1]}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24]}
groups:
  room: [10.7.0.100, 10.7.0.101]
services:
  league: {ports: [41100/udp]}
trees:
  main: {queues: {rest: {default: true}}}
rules:
  - {service: league, queue: rest}
routes:
  - {local: room, uplinks: {fibre: 3, mobile: 1}}
  - {uplink: fibre, else: mobile}
nat: {keep-ports: room}
mappings:
  - {name: Play, local: room, protocol: udp, port: 3000-3009, count: 2, lifetime: 1 h, service: league, uplink: mobile}
  - {local: 10.7.0.102, port: [4000/tcp, 5000-5001]}
"""


def plan_of(folder: Path, text: str = PLAN) -> Path:
    file = folder / "sluice.yaml"
    file.write_text(text)
    return file


def test_grants_are_read_and_said_in_a_sentence(tmp_path: Path) -> None:
    plan = load(plan_of(tmp_path))
    play, desk = plan.granting
    assert (play.ports, play.uplink, play.service) == ({17: ((3000, 3009),)}, "mobile", "league")
    assert (desk.ports, desk.uplink, desk.count) == ({6: ((4000, 4000), (5000, 5001)), 17: ((5000, 5001),)}, "fibre", 8)
    assert [grant_sentence(grant) for grant in plan.grants] == [
        "room may have 2 of UDP 3000–3009 opened each on mobile, for league, for 1 h at a time.",
        "10.7.0.102 may have 8 of TCP 4000 and 5000–5001 and UDP 5000–5001 opened each on fibre, for 2 h at a time.",
    ]
    assert plan.steady is not None and plan.steady.words == ("room",)
    assert examine(tmp_path / "sluice.yaml")[1] == []


@pytest.mark.parametrize(
    ("was", "written", "place"),
    [
        ("uplink: mobile}", "uplink: satellite}", "mappings[1].uplink"),
        ("local: room, protocol", "local: shed, protocol", "mappings[1].local"),
        ("protocol: udp, port: 3000", "protocol: icmp, port: 3000", "mappings[1].protocol"),
        ("service: league, uplink", "service: calls, uplink", "mappings[1].service"),
        ("lifetime: 1 h", "lifetime: 3 days", "mappings[1].lifetime"),
        ("count: 2", "count: 0", "mappings[1].count"),
        ("[4000/tcp, 5000-5001]", "[4000/tcp, 5001-5000]", "mappings[2].port"),
        ("keep-ports: room", "keep-ports: shed", "nat.keep-ports"),
        ("keep-ports: room", "keep-ports: '02:00:5e:10:00:01'", "nat.keep-ports"),
    ],
)
def test_what_is_wrong_with_a_grant_is_said_at_its_place(tmp_path: Path, was: str, written: str, place: str) -> None:
    assert was in PLAN
    with pytest.raises(FileError) as caught:
        load(plan_of(tmp_path, PLAN.replace(was, written)))
    assert place in [finding.key for finding in caught.value.findings]


def test_a_rename_is_followed_to_routes_mappings_and_kept_ports() -> None:
    text = PLAN
    for kind, old, new in (("uplink", "mobile", "spare"), ("group", "room", "den"), ("service", "league", "cup")):
        text = apply(text, Edits(parse(text)[0]).rename(kind, old, new))
    assert text == (PLAN.replace("mobile", "spare").replace(" room", " den").replace("league", "cup"))


def test_a_change_of_grants_is_a_difference(tmp_path: Path) -> None:
    before = load(plan_of(tmp_path))
    after = load(plan_of(tmp_path, PLAN.replace("count: 2", "count: 3").replace("keep-ports: room", "")))
    assert [(one.how, one.part, one.name) for one in compare(before, after)] == [
        ("changed", "mapping", "Play"),
        ("changed", "plan", "keep-ports"),
    ]

"""The order of rules: what is never reached, against trying everything; and rules that miss what they mean."""

from collections.abc import Callable, Iterator
from dataclasses import replace
from itertools import product
from pathlib import Path
from random import Random

import pytest

from tests.conftest import told
from wily_sluice import examples
from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.condition import Clock, Subject
from wily_sluice.engine.classify.header import ACKNOWLEDGEMENT, CLOSING, CONTROL, HANDSHAKE, Parties, key_of
from wily_sluice.engine.classify.service import Known
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.outside.files import DiskFile, examine, load
from wily_sluice.plan.build_rules import RuleBuilder
from wily_sluice.plan.file.words import address_set
from wily_sluice.plan.groups.place_file import COUNTRY_PATHS, members_where
from wily_sluice.plan.model import Budget, Plan, Route, Rule
from wily_sluice.plan.reach.covered import routes_out_of_reach, rules_out_of_reach
from wily_sluice.plan.reach.space import moments
from wily_sluice.plan.terms import Members, Party, Terms

SCHEDULES = "schedules: {day: [mon-fri 08:00-18:00], noon: [mon-fri 12:00-13:00], night: [20:00-06:00]}\n"


def party(*words: str) -> Party:
    addresses = AddressSet(part for word in words if word[-1].isdigit() for part in address_set(word))
    return Party(words, Members(addresses, names=frozenset(word for word in words if not word[-1].isdigit())))


# For each thing that can be asked: what rules may ask, and values of which at least one is of every kind that matters.
LOCALS = [party(*words) for words in (["10.7.0.1"], ["10.7.0.1-10.7.0.2"], ["10.7.0.2", "fd07::1"], ["10.7.0.0/24"])]
REMOTES = [party(*words) for words in (["203.0.113.1"], ["*.films.example"], ["a.films.example", "203.0.113.1"])]
ASKED: dict[str, list[object]] = {
    "local": LOCALS,
    "remote": REMOTES,
    "protocol": [(6,), (17,), (6, 17), (1,), (6, 17, 33, 132, 136)],
    "port": [((80, 80),), ((80, 81),)],
    "local-port": [((80, 80),), ((1, 65535),)],
    "remote-port": [((80, 80),), ((81, 90),), ((0, 79), (81, 65535))],
    "dscp": [(46,), (46, 8), (8,)],
    "version": [4, 6],
    "moved": [(100, True), (100, False), (200, True)],
    "packet": [ACKNOWLEDGEMENT, HANDSHAKE, CONTROL, ACKNOWLEDGEMENT | HANDSHAKE, HANDSHAKE | CONTROL],
    "length": [(128, False), (128, True), (1000, False)],
    "when": ["day", "noon", "night"],
}
ADDRESSES = ("10.7.0.1", "10.7.0.2", "10.7.0.9", "10.8.0.1", "fd07::1", "fd08::1")
REMOTE_ADDRESSES = ("203.0.113.1", "203.0.113.9", "2001:db8::1")
NAMES = ((), ("a.films.example",), ("b.films.example",))
KINDS = {6: (0, HANDSHAKE, CLOSING, ACKNOWLEDGEMENT), 17: (0,), 33: (0,), 1: (CONTROL,), 47: (0,)}


def drawn_terms(random: Random, fields: list[str], deep: bool = True) -> Terms:
    chosen = [field for field in fields if random.random() < 0.55]
    terms = Terms({field: random.choice(ASKED[field]) for field in chosen})
    if deep and random.random() < 0.25:
        parts = tuple(drawn_terms(random, fields, deep=False) for _ in range(random.choice((1, 2))))
        return replace(terms, **{random.choice(("any", "all", "none")): parts})
    return terms


def everything(fields: list[str], combinations: set[tuple[bool, ...]]) -> Iterator[tuple[Subject, int]]:
    """Subjects, and the schedules that hold as bits: all that differs in one of the fields."""

    def values(field: str, found: tuple[object, ...]) -> tuple[object, ...]:
        return found if field in fields else found[:1]

    ported = bool({"port", "local-port", "remote-port"} & set(fields))
    locals_ = ADDRESSES if {"local", "version"} & set(fields) else ADDRESSES[:1]
    remotes = REMOTE_ADDRESSES if {"remote", "local", "version"} & set(fields) else REMOTE_ADDRESSES[:1]
    protocols = (6, 17, 33, 1, 47) if ported or {"protocol", "packet"} & set(fields) else (6,)
    numbers = (80, 81, 85, 95, 40, 0) if ported else (80,)
    for local, remote, protocol, marks, moved, names, open_ in product(
        locals_,
        remotes,
        protocols,
        values("dscp", (0, 8, 46)),
        values("moved", (0, 150, 300)),
        values("remote", NAMES),
        [sum(1 << index for index, holds in enumerate(one) if holds) for one in sorted(combinations)],
    ):
        own, far = (next(iter(address_set(address)))[0] for address in (local, remote))
        if len(own) != len(far):
            continue
        for near, away in product(numbers, numbers) if protocol in (6, 17, 33) else [(0, 0)]:
            conversation = Conversation(key_of(Parties(protocol, own, far, near, away)))
            conversation.dscps = 1 << marks
            conversation.known = Known(names=names)
            kinds = KINDS[protocol] if "packet" in fields else KINDS[protocol][:1]
            for kind, length in product(kinds, values("length", (100, 500, 1400))):
                subject = Subject(conversation, None, kind, length=length)
                subject.moved = moved
                yield subject, open_


@pytest.mark.parametrize("lists", [150, pytest.param(1000, marks=pytest.mark.slow)])
def test_what_is_out_of_reach_is_exactly_what_no_conversation_comes_to(
    small_plan: Callable[..., Plan], lists: int
) -> None:
    plan = small_plan(("limiters:", SCHEDULES + "limiters:"))
    holding = moments(list(plan.schedules.values()))
    random = Random(5)
    shadowed = 0
    for _ in range(lists):
        fields = random.sample(list(ASKED), 3)
        rules = [drawn_terms(random, fields) for _ in range(random.randrange(2, 6))]
        drawn = replace(plan, rules=tuple(Rule(f"r{n}", n, terms, {"main": "calls"}) for n, terms in enumerate(rules)))
        clock = Clock()
        builder = RuleBuilder(drawn, clock)
        classifier = builder.classifier(drawn.trees["main"], "line")
        combinations = holding if "when" in fields else {(False, False, False)}
        reached = set()
        for subject, clock.open in everything(fields, combinations):
            reached.add(classifier.rule(subject))
        expected = set(range(len(rules))) - reached
        assert {rule.index for rule, _ in rules_out_of_reach(drawn)[0]} == expected, rules
        shadowed += len(expected)
    assert shadowed > lists / 4


def test_a_route_is_out_of_reach_when_no_conversation_takes_it_whichever_lines_are_up(
    small_plan: Callable[..., Plan],
) -> None:
    plan, names, random, fields = small_plan(), ("one", "two", "three"), Random(6), ["local", "remote-port"]
    plan = replace(plan, uplinks=tuple(replace(plan.uplinks[0], name=name) for name in names))
    subjects = [subject for subject, _ in everything(fields, {(False, False, False)})]
    shadowed = 0
    for _ in range(120):
        routes = []
        for number in range(random.randrange(2, 6)):
            chosen = random.sample(names, random.randrange(1, 4))
            shares, otherwise = tuple((name, 1.0) for name in chosen[:2]), chosen[2] if len(chosen) > 2 else None
            budget = Budget(0.5, "quota") if random.random() < 0.25 else None
            terms = drawn_terms(random, fields)
            routes.append(Route(f"r{number}", number, terms, shares, otherwise, budget=budget))
        drawn = replace(plan, routes=tuple(routes))
        router = RuleBuilder(drawn, Clock()).router()
        budgeted = [route.name for route in routes if route.budget is not None]
        taken = set()
        for down, spent in product(range(8), product((False, True), repeat=len(budgeted))):
            router.down = frozenset(line for line in range(3) if down >> line & 1)
            router.spent = frozenset(name for name, gone in zip(budgeted, spent, strict=True) if gone)
            taken |= {router.choose(subject)[0] for subject in subjects}
        expected = {route.name for route in routes} - taken
        assert {one.one.name for one in routes_out_of_reach(drawn)} == expected, routes
        shadowed += len(expected)
    assert shadowed > 30


RULES = """\
site: Small
uplinks: {line: {interface: wan0, down: 20 Mbit/s, up: 10 Mbit/s}}
networks: {house: {interface: lan0, subnets: [10.7.0.0/24, "fd07::/64"]}}
trees: {main: {queues: {calls: {priority: 1, guarantee: 20%}, rest: {default: true}}}}
rules:
"""


@pytest.mark.parametrize(
    ("rules", "line", "said"),
    [
        (["{port: 80-90, queue: rest}", "{port: 85, protocol: tcp, queue: calls}"], 7, "is never reached: rule 1"),
        (
            ["{port: 80-84, queue: rest}", "{port: 85-90, queue: rest}", "{port: 82-88, queue: calls}"],
            8,
            "rule 1, rule 2 above it together match everything that it would",
        ),
        (["{remote: '*.a.example', queue: rest}", "{remote: x.a.example, queue: calls}"], 7, "may never be reached"),
        (["{port: 85, queue: rest}", "{port: 85, queue: rest}"], 7, "repeats rule 1"),
        (["{queue: rest}", "{port: 85, queue: calls}"], 7, "rule 1 above it matches everything"),
        (["{version: 6, local: 10.7.0.5, queue: calls}"], 6, "can never match"),
        (["{local: 10.7.0.5, queue: calls}"], 6, "house has IPv6"),
        (["{protocol: tcp, port: 443, queue: rest}"], 6, "web-pages also uses port 443 over UDP"),
        (["{service: web, queue: calls}"], 6, "lets downloads go first"),
        # All hosts but the gateway are of the only network, so whatever its hosts do goes there.
        (["{local: [house, gateway], queue: rest}", "{remote-port: 85, queue: calls}"], 7, "is never reached: rule 1"),
        (["{port: [53, 80, 41100], queue: calls}"], 6, "put {port: 80, moved: over 20 MB, queue: rest} above it"),
        (
            ["{port: 443, moved: over 20 MB, queue: rest}", "{port: [53, 80, 443], queue: calls}"],
            7,
            "put {port: 80, moved: over 20 MB, queue: rest} above it",
        ),
    ],
)
def test_the_order_of_rules_is_told_with_its_line(tmp_path: Path, rules: list[str], line: int, said: str) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(RULES + "".join(f"  - {rule}\n" for rule in rules))
    findings = [finding for finding in told(file) if finding.key.startswith("rules")]
    assert [(finding.line, said in str(finding)) for finding in findings] == [(line, True)], findings


def test_the_rule_that_is_advised_against_bulk_mends_what_it_is_advised_for(tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(RULES + "  - {service: web, moved: over 20 MB, queue: rest}\n  - {service: web, queue: calls}\n")
    assert told(file) == []
    assert load(file).rules[0].terms.moved == (20_000_000, True)


def test_what_is_in_order_is_not_told(tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    for rules in (
        ["{protocol: tcp, port: 80, queue: rest}"],  # nobody speaks HTTP over UDP
        ["{protocol: tcp, port: 443, queue: rest}", "{protocol: udp, port: 443, queue: rest}"],
        ["{port: 80, moved: over 20 MB, queue: rest}", "{port: [53, 80, 41100], queue: calls}"],
        ["{local: house, queue: rest}", "{remote-port: 85, queue: calls}"],  # the gateway's own
    ):
        file.write_text(RULES + "".join(f"  - {rule}\n" for rule in rules))
        assert not [finding for finding in examine(file)[1] if finding.key.startswith("rules")], rules


@pytest.mark.parametrize(
    ("wrong", "keys"),
    [
        ("groups: {some: [10.7.0.300]}\nrules:\n  - {local: some, queue: rest}\n", ["groups.some[1]"]),
        ("rules:\n  - {local: nobody, queue: rest}\n", ["rules[1].local"]),
        ("limiters: {few: {local: lost, down: 2 Mbit/s}}\ngroups: {lost: [there]}\n", ["groups.lost[1]"]),
    ],
)
def test_one_mistake_draws_one_finding(tmp_path: Path, wrong: str, keys: list[str]) -> None:
    file = tmp_path / "sluice.yaml"
    rest = "  - {queue: calls, port: 99}\n" if wrong.startswith("rules") else ""
    fed = "" if "rules:" in wrong else "rules: [{queue: calls, port: 99}]\n"
    file.write_text(RULES.replace("rules:\n", fed) + wrong + rest)
    found = [finding.key for finding in examine(file)[1] if not finding.key.startswith("trees")]
    assert found == keys
    file.write_text(RULES.replace("up: 10 Mbit/s", "up: 10 Mbit/s, tree: mian") + "  - {queue: calls, port: 99}\n")
    assert [finding.key for finding in told(file)] == ["uplinks.line.tree"]
    file.write_text(RULES.replace("down: 20 Mbit/s", "down: 20").replace("guarantee: 20%", "guarantee: 6 Mbit/s"))
    assert [finding.key for finding in examine(file)[1] if finding.severity == "error"] == ["uplinks.line.down"]


def test_what_is_wrong_within_a_block_or_a_service_is_told_with_its_line(tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    wrong = ["{not: {porr: 5}, queue: rest}", "{any: [{port: 0}, {service: cals}], queue: rest}", "{name: nothing}"]
    file.write_text(f"services: {{odd: {{}}}}\n{RULES}" + "".join(f"  - {rule}\n" for rule in wrong))
    findings = [finding for finding in examine(file)[1] if finding.severity == "error"]
    assert [(finding.line, finding.key) for finding in findings] == [
        (1, "services.odd"),
        (7, "rules[1].not.porr"),
        (8, "rules[2].any[1].port"),
        (8, "rules[2].any[2].service"),
        (9, "rules[3]"),
    ]
    assert "did you mean “calls”" in str(findings[3])


def test_groups_hold_host_names_and_the_prefixes_of_a_place(demo_plan: Plan, tmp_path: Path) -> None:
    assert demo_plan.groups["specialist"].names == {"*.scans.example"}
    # Network 64503 of the made-up file is 203.0.113.128/25.
    assert demo_plan.groups["helpers"].addresses == address_set("203.0.113.128/25")
    places = DiskFile(examples.folder() / examples.PLACES)
    assert members_where(places, {COUNTRY_PATHS: ("XC",)})[0].addresses == address_set("203.0.113.128/25")
    assert members_where(places, {COUNTRY_PATHS: ("XC",), ("country.name",): ("Upper Marsh",)}) == [Members()]
    (tmp_path / "broken.mmdb").write_bytes(b"no such thing")
    file = tmp_path / "sluice.yaml"
    groups = "groups: {far: {database: broken.mmdb, country: XA}, nowhere: {database: broken.mmdb}}\n"
    file.write_text(RULES.replace("trees:", groups + "trees:") + "  - {remote: [far, nowhere], queue: calls}\n")
    said = [finding.message for finding in examine(file)[1] if finding.severity == "error"]
    assert [("is not a valid MMDB file" in one, "select any entries" in one) for one in said] == [
        (True, False),
        (False, True),
    ]


def test_rules_may_ask_for_eight_different_lengths_of_packets(tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    for count in (8, 9):
        rules = "".join(f"  - {{length: up to {100 + n} B, queue: calls}}\n" for n in range(count))
        file.write_text(RULES + rules + "  - {length: over 100 B, queue: rest}\n")
        plan, findings = examine(file)
        assert (plan is None) == (count > 8)
        assert any("9th different length" in finding.message for finding in findings) == (count > 8)


def test_dates_many_years_apart_are_no_matter(small_plan: Callable[..., Plan]) -> None:
    days = "schedules: {open: [mon-fri 08:00-18:00, not 2026-12-25, until 2099-12-31]}\n"
    plan = small_plan(("rules:\n", days + "rules:\n  - {port: 5004, when: open, queue: calls}\n"))
    assert rules_out_of_reach(plan) == ([], [])
    day = "schedules: {open: [sat, from 2026-12-25, until 2026-12-25]}\n"
    plan = small_plan(("rules:\n", day + "rules:\n  - {port: 5004, when: open, queue: calls}\n"))
    assert [rule.index for rule, _ in rules_out_of_reach(plan)[0]] == [0]  # that day is a Friday

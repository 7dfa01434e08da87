"""What holds for every plan: fixes, edits and comparisons never say one thing and do another."""

import json
import re
from collections import Counter
from datetime import UTC, datetime
from ipaddress import ip_address
from random import Random
from typing import Any

import pytest

from tests.conftest import DRAW
from tests.plan.drawn import changed, examined, plan_of, sound_plan
from wily_sluice.engine.classify.condition import Subject
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.forecast.split import split
from wily_sluice.plan.build import build_site
from wily_sluice.plan.compare import compare
from wily_sluice.plan.edit.edits import Edits
from wily_sluice.plan.edit.fixes import fixed, same_effect
from wily_sluice.plan.edit.operations import EditError
from wily_sluice.plan.edit.text import apply
from wily_sluice.plan.effect import effect
from wily_sluice.plan.file.source import Kept
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.units import DIRECTIONS
from wily_sluice.views.plan.parts import part_data

MANY = 20_000 if DRAW == "anew" else 400  # plans of which something is said
PARTS = 8  # that may run beside each other
HOSTS = ("10.7.0.9", "10.7.0.45", "10.7.0.70", "10.7.1.3", "10.7.1.200")
FAR, PORTS = ("203.0.113.9", "203.0.113.70", "198.51.100.1"), (53, 80, 443, 5004, 9000, 41_100)


def seeds(part: int, share: float = 1.0) -> range:
    return range(part, round(MANY * share), PARTS)


def answers(plan: Plan) -> list[Any]:
    """What the engine of a plan makes of some conversations, and the figures of its queues and limiters."""
    engine = build_site(plan, lambda _: None)
    drawn = Random(5)
    some = []
    for _ in range(40):
        local, remote = (ip_address(drawn.choice(ends)).packed for ends in (HOSTS, FAR))
        parties = Parties(drawn.choice((6, 17)), local, remote, 40_000, drawn.choice(PORTS))
        some.append(Conversation(key_of(parties)))
    found: list[Any] = [resolve(plan, uplink, way) for uplink in plan.uplinks for way in DIRECTIONS]
    for shaper in engine.shapers.values():
        found.append([shaper.leaf_of(conversation).path for conversation in some])
        limits = [shaper.classifier.limits(Subject(conversation)) for conversation in some]
        found.append([{plan.limiters[index].name for index in indices} for indices in limits])
    return [
        *found,
        *([lim.spec if lim is not None else None for lim in bank.limiters] for bank in engine.banks.values()),
    ]


@pytest.mark.parametrize("part", range(PARTS))
def test_a_fix_never_changes_what_a_plan_does(part: int) -> None:
    made: Counter[str] = Counter()
    for seed in seeds(part, 0.5):
        text, _, plan = sound_plan(Random(seed))
        result = fixed(text.encode(), lambda content: Kept("sluice.yaml", content))
        made["skipped"] += bool(result.skipped)
        if result.content != text.encode():
            made["made"] += 1
            after, findings = examined(result.content.decode())
            assert after is not None, (seed, findings)
            assert same_effect(plan, after) and answers(plan) == answers(after), seed
    assert made["made"] > 1 and made["skipped"] > 5


def test_rules_that_nothing_reaches_may_go_from_several_places_and_no_other_may() -> None:
    text, _, plan = sound_plan(Random(3841))  # two of the rules behind one that takes everything
    result = fixed(text.encode(), lambda content: Kept("sluice.yaml", content))
    after, _ = examined(result.content.decode())
    assert after is not None and len(after.rules) == len(plan.rules) - 2 and same_effect(plan, after)
    taking_all = "rules:\n- queue: bulk/files\n  name: B\n"
    other, _ = examined(text.replace(taking_all, "rules:\n"))
    assert taking_all in text and other is not None and not same_effect(plan, other)


@pytest.mark.parametrize("part", range(PARTS))
def test_something_is_said_of_two_plans_exactly_if_they_differ(part: int) -> None:
    told: Counter[bool] = Counter()
    for seed in seeds(part):
        drawn = Random(seed)
        _, data, before = sound_plan(drawn)
        after, _ = plan_of(changed(drawn, data))
        if after is None:
            continue
        said = compare(before, after)
        assert bool(said) == (effect(before) != effect(after)), seed
        assert all(change.what for change in said if change.how == "changed"), seed
        if not said:
            assert answers(before) == answers(after), seed
        told[bool(said)] += 1
    assert told[True] > 5 and told[False]


RENAMED = ("limiter", "network", "group", "schedule", "queue", "uplink", "service", "host")


@pytest.mark.parametrize("part", range(PARTS))
def test_a_renamed_part_is_followed_wherever_it_is_named(part: int) -> None:
    for seed in seeds(part, 0.3):
        drawn = Random(seed)
        text, data, before = sound_plan(drawn)
        kind = drawn.choice([kind for kind in RENAMED if Edits(data).names(kind)])
        name = drawn.choice(Edits(data).names(kind))
        try:
            text = apply(text, Edits(data).rename(kind, name, "other-name"))
        except EditError:
            continue  # a queue of this name is in the other tree
        after, findings = examined(text)
        assert after is not None, (seed, kind, name, findings)
        old, new = (re.sub(r"frozenset\(|[{}()\[\]]", "", repr(effect(plan))) for plan in (before, after))
        last = name.rpartition("/")[2]
        words = [sorted(part.strip() for part in text.replace("other-name", last).split(",")) for text in (old, new)]
        assert words[0] == words[1], (seed, kind, name)


@pytest.mark.parametrize("part", range(PARTS))
def test_every_plan_is_shown_and_split_without_a_fault(part: int) -> None:
    moment = datetime(2026, 12, 24, 12, tzinfo=UTC)
    for seed in seeds(part, 0.2):
        _, _, plan = sound_plan(Random(seed))
        json.dumps(part_data(plan, moment))
        for uplink in plan.uplinks:
            for way in DIRECTIONS:
                root = resolve(plan, uplink, way)
                rates = split(root, {})
                assert sum(rates[leaf.path].rate for leaf in root.leaves()) <= root.cap * 1.0001, seed

import re
from collections.abc import Callable

import pytest

from wily_sluice.plan.explain.choices import CHOICES, rate_facts
from wily_sluice.plan.explain.glossary import BY_NAME, GLOSSARY
from wily_sluice.plan.model import Plan
from wily_sluice.views.plan.explain import line_lines


def test_a_rate_comes_to_bytes_packets_and_the_time_of_a_file() -> None:
    facts = dict(rate_facts(24_000_000))
    assert facts["bytes"] == "3 MB/s"
    assert facts["a file of 1 GB"] == "5.56 min"  # 8e9 bits / 24e6 bit/s
    assert facts["packets of 1500 B"] == "1,976 a second"  # 24e6 / (8 × 1518)
    assert facts["one packet of 1500 B takes"] == "506 µs"


def test_every_term_has_a_name_of_its_own_and_its_example_is_of_the_plan(demo_plan: Plan) -> None:
    assert len(BY_NAME) == sum(1 + len(term.also) for term in GLOSSARY)
    for term in GLOSSARY:
        assert term.text.endswith(".")
        assert all(isinstance(line, str) and line for line in term.example(demo_plan))
    assert "main: calls has 12%" in BY_NAME["minimum"].example(demo_plan)
    assert BY_NAME["margin"].example(demo_plan) == [
        *(f"fibre: 8% is left free {way}" for way in ("down", "up")),
        *(f"mobile: 15% is left free {way}" for way in ("down", "up")),
    ]


@pytest.mark.parametrize("choice", CHOICES.values(), ids=CHOICES.keys())
def test_a_choice_compares_several_and_recommends_one_for_the_plan(choice: object, demo_plan: Plan) -> None:
    assert len(choice.options) >= 3  # type: ignore[attr-defined]
    assert len(choice.advise(demo_plan)) > 10  # type: ignore[attr-defined]


def test_a_slow_line_is_told_to_promise_delays(small_plan: object) -> None:
    plan = small_plan(("up: 10 Mbit/s", "up: 1 Mbit/s"))  # type: ignore[operator]
    assert CHOICES["discipline"].advise(plan).startswith("curve, on line")


def test_a_line_of_a_plan_is_said_in_a_sentence_with_its_terms(demo_plan: Plan) -> None:
    text = demo_plan.document.raw.decode().splitlines()
    number = next(index for index, line in enumerate(text, 1) if "visitor-each" in line)
    lines = line_lines(demo_plan, number)
    assert "waiting-room" in lines[0] and "6 Mbit/s" in lines[0]
    assert any(re.match("per: Who gets a limiter", line) for line in lines)
    route = next(index for index, line in enumerate(text, 1) if "Everything," in line)
    assert line_lines(demo_plan, route)[0] == "Everything: Every conversation goes over fibre, else mobile."
    assert line_lines(demo_plan, 1) == []  # a comment


def test_a_policing_limiter_with_a_burst_of_its_own_is_named(small_plan: Callable[..., Plan]) -> None:
    rate = "down: 2 Mbit/s"
    for words, named in ((", excess: drop, burst: 9 kB", True), (", burst: 9 kB", False), (", excess: drop", False)):
        assert ("guest" in CHOICES["burst"].advise(small_plan((rate, rate + words)))) is named

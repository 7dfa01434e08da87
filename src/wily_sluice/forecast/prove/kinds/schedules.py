"""What has a schedule applies while that holds, and not otherwise."""

from collections.abc import Callable, Iterator
from datetime import datetime

from wily_sluice.forecast.prove.bench import (
    Bench,
)
from wily_sluice.forecast.prove.example import Example, examples, rule_of
from wily_sluice.forecast.prove.proof import Proof, Verdict
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.units import DIRECTIONS, Direction


def prove(bench: Bench) -> Iterator[Proof]:
    """What has a schedule applies while that holds, and not otherwise."""
    plan = bench.plan
    for number, limiter in enumerate(plan.limiters):
        if limiter.when is None or not limiter.enabled:
            continue
        way: Direction = next((way for way in DIRECTIONS if limiter.rate(way) is not None), "up")
        at = ("limiters", limiter.name, "when")

        def limits(moment: datetime, index: int = number, way: Direction = way) -> bool:
            one = bench.at(moment).banks[way].limiters[index]
            return one is not None and one.active

        yield _scheduled(bench, limiter.name, limiter.when, at, limits)
    for index, rule in enumerate(plan.sorting):
        when, example = rule.terms.when, None
        if when is not None:
            shaper = bench.shaper(plan.uplinks[0], "up")
            example = next((one for one in examples(plan, rule.terms) if rule_of(shaper, one) == index), None)
        if when is None or example is None:
            continue

        def matches(moment: datetime, example: Example = example, index: int = index) -> bool:
            return rule_of(bench.at(moment).shapers[plan.uplinks[0].name, "up"], example) == index

        yield _scheduled(bench, rule.name, when, ("rules", rule.index, "when"), matches)


def _scheduled(bench: Bench, name: str, when: str, at: Location, applies: Callable[[datetime], bool]) -> Proof:
    held, not_held = bench.moments(when)
    said = [f"on {held:%a %d %b %H:%M}"] if held else []
    said += [f"not on {not_held:%a %d %b %H:%M}"] if not_held else []
    expected = f"applies {', '.join(said)}"
    if held is None or not_held is None:
        return Proof("schedule", name, when, at, expected, "–", "not tried", "within a year it never changes")
    found = applies(held), applies(not_held)
    measured = {(True, False): "so it does", (True, True): "always applies", (False, False): "never applies"}
    kept: Verdict = "kept" if found == (True, False) else "broken"
    return Proof("schedule", name, when, at, expected, measured.get(found, "the other way round"), kept)

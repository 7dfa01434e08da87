"""Guarantees of siblings that add up to more than their parent has."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.level import Level, levels, levels_of_no_line
from wily_sluice.units import Amount, exact_share, format_byte_rate, format_rate, rates_apart

ROUNDING = 4  # bit/s: shares are rounded to whole bit/s one by one
NEARLY = 1 + 1e-9


def find(checked: Checked) -> Iterator[Told]:
    """Each parent. In a tree that no uplink has, percentages can still be added up."""
    for level in levels(checked):
        if level.discipline != "strict":
            yield from _sum(level)
    for level in levels_of_no_line(checked):
        if level.discipline != "strict" and _percent(level) > NEARLY:
            yield from _sum(level)


def _amounts(level: Level) -> list[Amount]:
    return [amount for queue in level.queues if (amount := queue.guarantee.of(level.direction)) is not None]


def _percent(level: Level) -> float:
    return sum(amount.share or 0 for amount in _amounts(level))


def _sum(level: Level) -> Iterator[Told]:
    total, percent = sum(amount.of(level.guarantee) for amount in _amounts(level)), _percent(level)
    if total <= level.guarantee + ROUNDING and percent <= NEARLY:
        return
    if percent > NEARLY:
        message = f"the guarantees below {level.name} add up to {exact_share(percent)} {level.direction}"
        remedy = "lower them to 100% in total"
    elif level.guarantee == 0:
        message = f"its children have guarantees of {format_rate(total)} {level.direction}, but it has none itself"
        remedy = f"give {level.name} a guarantee"
    else:
        needed, had = rates_apart(total, level.guarantee)
        message = (
            f"the guarantees below {level.name} add up to {needed} ({format_byte_rate(total)}) {level.direction}, "
            f"and it has {had} ({format_byte_rate(level.guarantee)})"
        )
        remedy = "lower them, or write percentages"
    yield Told(level.location, message, remedy)


KIND = Kind(
    "guarantees-overbooked",
    "error",
    find,
    once=True,
    story="""\
Guarantees must hold when all queues are busy at once. If they add up to more than the parent has, some would be
broken, so the plan is refused.
""",
    has="""\
trees:
  main:
    queues:
      calls: {guarantee: 90%}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {guarantee: 80%}
""",
)

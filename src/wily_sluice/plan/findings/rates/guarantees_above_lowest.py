"""Guarantees that a line that varies cannot keep when it is slowest."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.level import levels_at_lowest
from wily_sluice.units import format_rate


def find(checked: Checked) -> Iterator[Told]:
    """Each parent whose children's guarantees add up to more than its own at the lowest rate."""
    for level in levels_at_lowest(checked):
        total = sum(level.guarantee_of(queue) for queue in level.queues)
        if total > level.guarantee + len(level.queues):
            message = (
                f"at the lowest rate, {level.name} has {format_rate(level.guarantee)} {level.direction}, and "
                f"the guarantees below it add up to {format_rate(total)}"
            )
            yield Told(level.location, message, "write percentages, which follow the line, or lower them")


KIND = Kind(
    "guarantees-above-lowest",
    "warning",
    find,
    once=True,
    story="""\
The rate of this uplink varies, but a guarantee in Mbit/s stays the same. If the guarantees add up to more than the
uplink currently carries, each gets less than promised.
""",
    has="""\
uplinks:
  line: {down: 5 to 50 Mbit/s, probe: [203.0.113.1]}
trees:
  main:
    queues:
      calls: {guarantee: 6 Mbit/s}
""",
    lacks="""\
uplinks:
  line: {down: 5 to 50 Mbit/s, probe: [203.0.113.1]}
trees:
  main:
    queues:
      calls: {guarantee: {down: 3 Mbit/s, up: 6 Mbit/s}}
""",
)

"""A guarantee that is more than the cap."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.level import levels
from wily_sluice.units import format_rate


def find(checked: Checked) -> Iterator[Told]:
    """Each such queue."""
    for level in levels(checked):
        for queue in level.queues:
            guarantee, cap = level.guarantee_of(queue), level.cap_of(queue)
            if guarantee > cap:
                message = f"{format_rate(guarantee)} {level.direction} is guaranteed, but the cap is {format_rate(cap)}"
                yield Told(level.at(queue, "guarantee"), message, "a guarantee is at most the cap")


KIND = Kind(
    "guarantee-above-cap",
    "error",
    find,
    once=True,
    story="""\
A guarantee is what a queue is sure of, a cap what it can have at most. A queue cannot be sure of more than it can
have.
""",
    has="""\
trees:
  main:
    queues:
      calls: {cap: 10%}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {cap: 20%}
""",
)

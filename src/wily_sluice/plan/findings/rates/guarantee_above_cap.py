"""A guarantee that is more than the cap."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.level import levels
from wily_sluice.units import rates_apart


def find(checked: Checked) -> Iterator[Told]:
    """Each such queue."""
    for level in levels(checked):
        for queue in level.queues:
            guarantee, cap = level.guarantee_of(queue), level.cap_of(queue)
            if guarantee > cap:
                more, less = rates_apart(guarantee, cap)
                message = f"{more} {level.direction} is guaranteed, but the cap is {less}"
                yield Told(level.at(queue, "guarantee"), message, "a guarantee is at most the cap")


KIND = Kind(
    "guarantee-above-cap",
    "error",
    find,
    once=True,
    story="""\
A guarantee is the least that a queue gets under load, a cap the most that it ever gets. The guarantee cannot be
higher.
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

"""A guarantee below a strict parent, which gives none."""

from collections.abc import Iterator

from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.level import levels


def find(checked: Checked) -> Iterator[Told]:
    """Each such queue."""
    for level in levels(checked):
        for queue in level.queues:
            if level.discipline == "strict" and queue.guarantee.of(level.direction) is not None:
                message = f"{level.name} is strict: it serves by priority alone and guarantees nothing"
                location = level.at(queue, "guarantee")
                yield Told(location, message, "remove it, or make the parent weighted", (Remove(location),))


KIND = Kind(
    "guarantee-below-strict",
    "error",
    find,
    once=True,
    story="""\
A strict parent always serves the first child that has packets and guarantees nothing to the others. A guarantee
below it could not be kept.
""",
    has="""\
trees:
  main:
    discipline: strict
""",
    lacks="""\
trees:
  main:
    discipline: strict
    queues:
      calls: {guarantee: null, cap: 50%}
      rest: {guarantee: null}
""",
)

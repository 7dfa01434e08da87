"""A guarantee in percent, below a parent that has none."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.level import levels


def find(checked: Checked) -> Iterator[Told]:
    """Each such queue."""
    for level in levels(checked):
        for queue in level.queues if level.discipline != "strict" and level.guarantee == 0 else ():
            amount = queue.guarantee.of(level.direction)
            if amount is not None and amount.share:
                message = f"{amount} of nothing: {level.name} has no guarantee {level.direction}"
                yield Told(level.at(queue, "guarantee"), message, f"give {level.name} a guarantee")


KIND = Kind(
    "share-of-nothing",
    "warning",
    find,
    once=True,
    story="""\
A percentage of a guarantee is taken from the parent's guarantee. The parent has none, so this is a percentage of
nothing.
""",
    has="""\
trees:
  main:
    queues:
      rest: {guarantee: null, default: null, queues: {bulk: {guarantee: 50%, default: true}}}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {default: null, queues: {bulk: {guarantee: 50%, default: true}}}
""",
)

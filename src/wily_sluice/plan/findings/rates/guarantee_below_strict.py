"""A guarantee below a strict parent, which gives none."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.level import levels


def find(checked: Checked) -> Iterator[Told]:
    """Each such queue."""
    for level in levels(checked):
        for queue in level.queues:
            if level.discipline == "strict" and queue.guarantee.of(level.direction) is not None:
                message = f"{level.name} is strict: it serves by priority alone and guarantees nothing"
                yield Told(level.at(queue, "guarantee"), message, "remove it, or make the parent weighted")


KIND = Kind("guarantee-below-strict", "error", find, once=True)

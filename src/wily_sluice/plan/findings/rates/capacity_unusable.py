"""Caps of siblings that add up to less than their parent may have."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.highest import highest_rate
from wily_sluice.plan.findings.trees.location import queue_location
from wily_sluice.units import format_rate

NEARLY = 0.99  # of what the parent may have


def find(checked: Checked) -> Iterator[Told]:
    """Each parent, in each tree as it is used."""
    for tree, uplink, way, root in checked.uses:
        for parent in root.walk():
            whole = sum(map(highest_rate, parent.children))
            if parent.children and whole < parent.cap * NEARLY:
                message = (
                    f"{format_rate(parent.cap - whole)} of {parent.path or uplink.name} {way} can never be used: "
                    "the caps add up to less"
                )
                remedy = "remove a cap; guarantees reserve a rate and still lend it to others"
                yield Told((*queue_location(tree.name, parent.path), "queues"), message, remedy)


KIND = Kind(
    "capacity-unusable",
    "warning",
    find,
    once=True,
    story="""\
A cap holds even on an idle uplink. If the caps of all siblings add up to less than their parent has, the rest can
never be used. To reserve a rate for one queue, give it a guarantee: others can use it while the queue is idle.
""",
    has="""\
trees:
  main:
    queues:
      calls: {cap: 30%}
      rest: {cap: 60%}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {cap: 30%}
      rest: {cap: 70%}
""",
)

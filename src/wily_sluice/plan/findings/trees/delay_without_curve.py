"""A delay below a parent that does not keep delays."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location
from wily_sluice.plan.findings.trees.parents import parents


def find(checked: Checked) -> Iterator[Told]:
    """Each such queue."""
    for tree, name, discipline, children in parents(checked):
        for child in children:
            if child.leaf.delay is not None and discipline != "curve":
                message = f"{name} is {discipline}: only a curve parent can keep a delay"
                remedy = f"write `discipline: curve` at {name}, or remove the delay"
                yield Told((*queue_location(tree.name, child.path), "delay"), message, remedy)


KIND = Kind(
    "delay-without-curve",
    "error",
    find,
    story="""\
A promised delay is kept by a service curve, which only a parent with `discipline: curve` computes. Weighted and
strict parents divide rates and know no delays.
""",
    has="""\
trees:
  main:
    queues:
      calls: {delay: 20 ms}
""",
    lacks="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {delay: 20 ms, priority: null}
""",
)

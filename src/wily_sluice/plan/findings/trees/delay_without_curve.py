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


KIND = Kind("delay-without-curve", "error", find)

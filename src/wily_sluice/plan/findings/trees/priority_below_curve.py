"""A priority below a curve parent, which knows none."""

from collections.abc import Iterator

from wily_sluice.engine.queueing.spec import USUAL_PRIORITY
from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location
from wily_sluice.plan.findings.trees.parents import parents


def find(checked: Checked) -> Iterator[Told]:
    """Each such queue."""
    for tree, name, discipline, children in parents(checked):
        for child in children:
            if child.priority != USUAL_PRIORITY and discipline == "curve":
                message = f"{name} is a curve parent; its children have no priorities"
                remedy = "give it a guarantee with a delay, or a weight"
                location = (*queue_location(tree.name, child.path), "priority")
                yield Told(location, message, remedy, (Remove(location),))


KIND = Kind(
    "priority-below-curve",
    "warning",
    find,
    story="""\
A curve parent first serves packets that are close to their deadline, and divides the rest by weight. Priorities
have no effect there: give the queue a guarantee with a delay instead.
""",
    has="""\
trees:
  main:
    discipline: curve
""",
    lacks="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {priority: null}
""",
)

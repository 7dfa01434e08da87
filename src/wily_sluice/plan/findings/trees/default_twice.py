"""A tree with several defaults."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location


def find(checked: Checked) -> Iterator[Told]:
    """Each but the first."""
    for tree in checked.plan.trees.values():
        defaults = [queue for queue in tree.walk() if queue.default]
        for queue in defaults[1:]:
            location = (*queue_location(tree.name, queue.path), "default")
            yield Told(location, f"{defaults[0].path} is already the default", "exactly one leaf is")


KIND = Kind(
    "default-twice",
    "error",
    find,
    story="""\
Traffic that no rule matches needs exactly one leaf. With two defaults, the choice would be arbitrary.
""",
    has="""\
trees:
  main:
    queues:
      calls: {default: true}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {default: false}
""",
)

"""A default that is a parent, and so holds no packets."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location


def find(checked: Checked) -> Iterator[Told]:
    """Each such queue."""
    for tree in checked.plan.trees.values():
        for queue in tree.walk():
            if queue.default and queue.children:
                location = (*queue_location(tree.name, queue.path), "default")
                yield Told(location, "a parent cannot be the default", "use one of its leaves")


KIND = Kind(
    "default-parent",
    "error",
    find,
    story="""\
The default queue holds packets that no rule matches. Only leaves hold packets, so a parent cannot be the default.
""",
    has="""\
trees:
  main:
    queues:
      rest: {default: true, queues: {bulk: {}, other: {}}}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {default: null, queues: {bulk: {guarantee: 50%, default: true}, other: {guarantee: 50%}}}
rules:
  - {service: calls, queue: calls}
  - {service: files, queue: other}
""",
)

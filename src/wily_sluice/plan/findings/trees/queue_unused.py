"""A leaf that no rule names, and that is not the default."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location


def find(checked: Checked) -> Iterator[Told]:
    """Each leaf of the trees that an uplink has."""
    for tree in checked.plan.trees.values():
        if checked.plan.uplinks and not any(tree.name in (u.tree.up, u.tree.down) for u in checked.plan.uplinks):
            continue
        fed = {rule.queues.get(tree.name) for rule in checked.plan.rules}
        for leaf in tree.leaves:
            if leaf.path not in fed and not leaf.default:
                location = queue_location(tree.name, leaf.path)
                yield Told(location, "no rule uses this queue", "add a rule or remove it")


KIND = Kind(
    "queue-unused",
    "warning",
    find,
    whole=True,
    story="""\
No rule uses this leaf, so its guarantee only benefits other queues. Perhaps a rule is missing, or the queue is left
over from an earlier plan.
""",
    has="""\
trees:
  main:
    queues:
      play: {guarantee: 10%}
""",
    lacks="""\
trees:
  main:
    queues:
      play: {guarantee: 10%}
rules:
  - {service: calls, queue: calls}
  - {service: play, queue: play}
""",
)

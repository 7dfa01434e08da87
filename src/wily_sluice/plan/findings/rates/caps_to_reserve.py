"""Caps on all siblings but one, in the hope of reserving for it."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.capacity_unusable import NEARLY
from wily_sluice.plan.findings.rates.highest import highest_rate
from wily_sluice.plan.findings.trees.location import queue_location


def find(checked: Checked) -> Iterator[Told]:
    """Each parent, in each tree as it is used, where the caps do add up to all that there is."""
    for tree, _, way, root in checked.uses:
        for parent in root.walk():
            free = [child for child in parent.children if child.cap >= parent.cap]
            if len(free) != 1 or len(parent.children) < 3 or free[0].guarantee or parent.discipline != "weighted":
                continue
            if sum(map(highest_rate, parent.children)) >= parent.cap * NEARLY:
                message = (
                    f"has no guarantee {way}: caps on all its siblings leave capacity idle and reserve little for it"
                )
                remedy = "add a guarantee and remove caps"
                yield Told(queue_location(tree.name, free[0].path), message, remedy)


KIND = Kind(
    "caps-to-reserve",
    "warning",
    find,
    once=True,
    story="""\
All siblings of this queue are capped, but it has no guarantee. Capping all the others is the usual mistake when
trying to reserve a rate: the caps waste an idle uplink, and on a full one they reserve little. A guarantee reserves
the rate.
""",
    has="""\
trees:
  main:
    queues:
      calls: {guarantee: null, priority: null}
      play: {cap: 50%}
      rest: {cap: 60%, guarantee: null}
rules:
  - {service: calls, queue: calls}
  - {service: play, queue: play}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: null}
      play: {cap: 50%}
      rest: {cap: 60%, guarantee: null}
rules:
  - {service: calls, queue: calls}
  - {service: play, queue: play}
""",
)

"""A cap on the queue for everything else, which holds while the line is idle."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location
from wily_sluice.units import format_rate, format_share

LEAST = 0.5  # of the line


def find(checked: Checked) -> Iterator[Told]:
    """Each default leaf, in each tree as it is used."""
    for tree, uplink, way, root in checked.uses:
        for leaf in root.leaves():
            default = any(one.default for one in tree.leaves if one.path == leaf.path)
            if default and leaf.cap < root.cap * LEAST:
                message = (
                    f"is the default, and has at most {format_rate(leaf.cap)} {way} "
                    f"({format_share(leaf.cap / root.cap)} of {uplink.name}), even while the line is idle"
                )
                remedy = "remove the cap; give the others guarantees and priorities"
                yield Told((*queue_location(tree.name, leaf.path), "cap"), message, remedy)


KIND = Kind(
    "default-capped",
    "warning",
    find,
    once=True,
    story="""\
The default queue holds all traffic that no rule names, including important traffic that the plan does not foresee.
A low cap slows it at any time, even on an idle uplink at night. Guarantees and priorities protect the other queues
without this cost.
""",
    has="""\
trees:
  main:
    queues:
      rest: {cap: 40%}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {cap: 60%}
""",
)

"""An urgent queue that cannot use more than it is guaranteed, however idle the line is."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location
from wily_sluice.plan.findings.urgent.first import urgent
from wily_sluice.units import format_rate

NEARLY = 1.05  # times the guarantee


def find(checked: Checked) -> Iterator[Told]:
    """Each urgent leaf, in each tree as it is used."""
    for tree, uplink, way, root in checked.uses:
        first = urgent(tree)
        for leaf in root.leaves():
            if leaf.path in first and leaf.guarantee and leaf.cap <= leaf.guarantee * NEARLY < root.cap:
                message = (
                    f"goes first, but can never have more than its {format_rate(leaf.guarantee)} {way}, "
                    f"even if all {format_rate(root.cap)} of {uplink.name} are idle"
                )
                yield Told((*queue_location(tree.name, leaf.path), "cap"), message, "raise the cap or remove it")


KIND = Kind(
    "urgent-capped",
    "warning",
    find,
    once=True,
    story="""\
A cap holds even on an idle uplink. In the most urgent queue that is rarely intended: a second call, or a video
call, is squeezed although there is free capacity. A guarantee alone already reserves the rate.
""",
    has="""\
trees:
  main:
    queues:
      calls: {cap: 20%}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {cap: 40%}
""",
)

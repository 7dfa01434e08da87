"""Delays that the line cannot keep all at once: the steepest parts of their curves do not fit into it."""

from collections.abc import Iterator

from wily_sluice.engine.queueing.service_curve import first_slope
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location
from wily_sluice.units import format_rate, rates_apart


def find(checked: Checked) -> Iterator[Told]:
    """Each tree with a delay, as it is used."""
    for tree, uplink, way, root in checked.uses:
        promised = [
            leaf
            for parent in root.walk()
            if parent.discipline == "curve"
            for leaf in parent.children
            if not leaf.children and leaf.guarantee
        ]
        delayed = [leaf for leaf in promised if leaf.leaf.delay is not None]
        slopes = [first_slope(leaf.guarantee, leaf.leaf.delay, leaf.largest) for leaf in promised]
        if delayed and sum(slopes) > root.cap:
            parts = (f"{leaf.path} {format_rate(slope)}" for leaf, slope in zip(promised, slopes, strict=True))
            needed, had = rates_apart(sum(slopes), root.cap)
            message = (
                f"the delays and guarantees of curve parents need {needed}, "
                f"but {uplink.name} {way} has {had}: {', '.join(parts)}"
            )
            remedy = f"allow longer delays: one packet of {delayed[0].largest} B within a delay is a rate"
            yield Told((*queue_location(tree.name, delayed[0].path), "delay"), message, remedy)


KIND = Kind(
    "delays-overbooked",
    "error",
    find,
    once=True,
    story="""\
To keep a delay, the line must be able to send one full packet of each such queue within it. A packet of 1518 bytes
within 1 ms is 12 Mbit/s for that moment. The delays of this plan together need more than the line has.
""",
    has="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {delay: 1 ms, priority: null}
""",
    lacks="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {delay: 5 ms, priority: null}
""",
)

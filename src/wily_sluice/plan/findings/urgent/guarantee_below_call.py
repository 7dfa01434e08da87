"""A guarantee for calls that is less than one call."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location
from wily_sluice.units import Rate, format_rate

CALL: Rate = 87_200  # bit/s: 50 packets a second of 200 bytes, with 18 of Ethernet


def find(checked: Checked) -> Iterator[Told]:
    """Each queue that a rule for calls names, in each tree as it is used."""
    fed = {
        (name, path)
        for rule in checked.plan.sorting
        if any(service.category == "calls" for service in rule.terms.services or ())
        for name, path in rule.queues.items()
    }
    for tree, uplink, way, root in checked.uses:
        for leaf in root.leaves():
            if (tree.name, leaf.path) in fed and 0 < leaf.guarantee < CALL:
                message = (
                    f"{format_rate(leaf.guarantee)} of {uplink.name} {way} is less than one call, "
                    f"which takes {format_rate(CALL)}"
                )
                location = (*queue_location(tree.name, leaf.path), "guarantee")
                yield Told(location, message, f"guarantee {format_rate(CALL)} for each call that must get through")


KIND = Kind(
    "guarantee-below-call",
    "warning",
    find,
    once=True,
    story="""\
A call sends 50 packets a second each way, about 87 kbit/s with headers. If its queue is guaranteed less, the call
breaks up as soon as the line is full.
""",
    has="""\
trees:
  main:
    queues:
      calls: {guarantee: 0.5%}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {guarantee: 1%}
""",
)

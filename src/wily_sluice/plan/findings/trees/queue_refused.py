"""A queue that every uplink refuses."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location


def find(checked: Checked) -> Iterator[Told]:
    """Each leaf that is refused wherever it is used; leaves of several trees with the same path are one."""
    refusing: dict[str, list[bool]] = {}
    for use in checked.uses:
        for leaf in use.tree.leaves:
            refusing.setdefault(leaf.path, []).append(leaf.path in use.uplink.refuses)
    for name, tree in checked.plan.trees.items():
        for leaf in tree.leaves:
            if all(refusing.pop(leaf.path, [False])):
                message = "is refused by every uplink that has it, so all of its packets are dropped"
                yield Told(queue_location(name, leaf.path), message, "let one uplink carry it, or remove the queue")


KIND = Kind(
    "queue-refused",
    "warning",
    find,
    story="""\
An uplink drops traffic that it `refuses`. If all uplinks refuse a queue, its traffic is always dropped.
""",
    has="""\
uplinks:
  line: {refuses: [calls]}
""",
    lacks="""\
uplinks:
  line: {refuses: [calls]}
  spare: {interface: wan1, down: 50 Mbit/s, up: 10 Mbit/s, headroom: 8%}
""",
)

"""A queue that every uplink refuses."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location


def find(checked: Checked) -> Iterator[Told]:
    """Each leaf that is refused wherever its tree is used."""
    plan = checked.plan
    for name, tree in plan.trees.items():
        users = [uplink for uplink in plan.uplinks if name in (uplink.tree.up, uplink.tree.down)]
        for leaf in tree.leaves:
            if users and all(leaf.path in uplink.refuses for uplink in users):
                message = "is refused by every uplink that has it, so all of its packets are dropped"
                yield Told(queue_location(name, leaf.path), message, "let one uplink carry it, or remove the queue")


KIND = Kind(
    "queue-refused",
    "warning",
    find,
    story="""\
An uplink drops what it `refuses`. If no uplink is left that carries a queue, nothing of it ever gets through.
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

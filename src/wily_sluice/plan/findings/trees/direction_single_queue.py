"""An uplink that has queues in one direction, and only one queue in the other."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.units import DIRECTIONS


def find(checked: Checked) -> Iterator[Told]:
    """Each such uplink."""
    for uplink in checked.plan.uplinks:
        names = {way: uplink.tree.of(way) for way in DIRECTIONS}
        leaves = {way: len(checked.plan.trees[name].leaves) for way, name in names.items() if name is not None}
        for way in DIRECTIONS:
            if leaves.get(way) == 1 and max(leaves.values()) > 1:
                message = f"has only one queue {way}: nothing goes first there"
                yield Told(("uplinks", uplink.name, "tree"), message, "use the same tree for both directions")


KIND = Kind(
    "direction-single-queue",
    "warning",
    find,
    story="""\
A call needs both directions: it breaks up if either is full. Downloads fill the way down, backups and pictures the
way up, and each direction needs its own order.
""",
    has="""\
uplinks:
  line: {tree: {up: main, down: plain}}
trees:
  plain: {queues: {rest: {default: true}}}
""",
    lacks="""\
uplinks:
  line: {tree: {up: main, down: other}}
trees:
  other: {queues: {calls: {}, rest: {default: true}}}
""",
)

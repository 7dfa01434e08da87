"""A tree that no uplink has."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each tree."""
    for tree in checked.plan.trees:
        if checked.plan.uplinks and not any(tree in (u.tree.up, u.tree.down) for u in checked.plan.uplinks):
            yield Told(("trees", tree), "no uplink uses this tree", f"write `tree: {tree}` at an uplink")


KIND = Kind(
    "tree-unused",
    "warning",
    find,
    whole=True,
    story="""\
No uplink names this tree, so it shapes nothing. Perhaps an uplink lacks `tree`.
""",
    has="""\
uplinks:
  line: {tree: main}
trees:
  spare: {queues: {rest: {default: true}}}
""",
    lacks="""\
uplinks:
  line: {tree: {up: main, down: spare}}
trees:
  spare: {queues: {calls: {}, rest: {default: true}}}
""",
)

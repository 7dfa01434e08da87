"""A rule whose queue one of the trees in use does not have."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each rule and tree."""
    plan = checked.plan
    for rule in plan.sorting:
        for tree in plan.trees.values():
            lines = [u.name for u in plan.uplinks if tree.name in (u.tree.up, u.tree.down)]
            missing = rule.queues and tree.name not in rule.queues
            if missing and lines and any(leaf.default for leaf in tree.leaves):
                message = (
                    f"tree {tree.name}, of {' and '.join(lines)}, has no such queue: {tree.default.path} is used there"
                )
                remedy = f"write {{…, {tree.name}: QUEUE}} for another one"
                yield Told(("rules", rule.index, "queue"), message, remedy)


KIND = Kind(
    "queue-not-in-tree",
    "warning",
    find,
    story="""\
The uplinks have different trees, and one tree has no queue of this name. On that uplink the rule's traffic uses the
default leaf, which may surprise you on the day the main uplink fails.
""",
    has="""\
uplinks:
  line: {tree: main}
  spare: {interface: wan1, down: 8 Mbit/s, up: 2 Mbit/s, tree: small}
trees:
  small: {queues: {rest: {default: true}}}
""",
    lacks="""\
uplinks:
  line: {tree: main}
  spare: {interface: wan1, down: 8 Mbit/s, up: 2 Mbit/s, tree: small}
trees:
  small: {queues: {calls: {}, rest: {default: true}}}
""",
)

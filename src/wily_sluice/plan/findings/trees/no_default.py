"""A tree without a default leaf."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each tree."""
    cut = checked.reading.cut
    for tree in checked.plan.trees.values():
        whole = not any(part[:2] in (("trees",), ("trees", tree.name)) for part in cut)
        if whole and tree.queues and not any(queue.default for queue in tree.walk()):
            message = "no leaf is the default for traffic that no rule matches"
            yield Told(("trees", tree.name), message, "add `default: true`")


KIND = Kind(
    "no-default",
    "error",
    find,
    story="""\
Some traffic matches no rule, however long the list. Mark one leaf as its default, and give the leaf a guarantee so
that it cannot starve.
""",
    has="""\
trees:
  main:
    queues:
      rest: {default: false}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {default: true}
""",
)

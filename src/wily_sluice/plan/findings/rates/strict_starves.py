"""Queues below a strict parent that may get nothing, and who takes it."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.highest import highest_rate
from wily_sluice.plan.findings.trees.location import queue_location


def find(checked: Checked) -> Iterator[Told]:
    """Each strict parent whose first children can take all that it has, in each tree as it is used."""
    for tree, uplink, way, root in checked.uses:
        for parent in (spec for spec in root.walk() if spec.discipline == "strict" and spec.children):
            order = sorted({child.priority for child in parent.children})
            for priority in order[:-1]:
                first = [child for child in parent.children if child.priority <= priority]
                if sum(map(highest_rate, first)) >= parent.cap:
                    behind = [child.path for child in parent.children if child.priority > priority]
                    who = " and ".join(child.path for child in first)
                    message = (
                        f"{parent.path or uplink.name} is strict: {who} can take everything {way}, and then "
                        f"{', '.join(behind)} get nothing"
                    )
                    yield Told(
                        (*queue_location(tree.name, parent.path), "discipline"),
                        message,
                        f"cap {first[0].path}, or make the parent weighted",
                    )
                    break


KIND = Kind(
    "strict-starves",
    "warning",
    find,
    once=True,
    story="""\
A strict parent serves its children in order and guarantees nothing. If an early child is not capped, the later ones
get nothing for as long as it has packets. Use it only for a little urgent traffic.
""",
    has="""\
trees:
  main:
    discipline: strict
    queues:
      calls: {guarantee: null}
      rest: {guarantee: null}
""",
    lacks="""\
trees:
  main:
    discipline: strict
    queues:
      calls: {guarantee: null, cap: 50%}
      rest: {guarantee: null}
""",
)

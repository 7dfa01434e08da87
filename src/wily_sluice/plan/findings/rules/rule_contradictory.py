"""A rule whose terms exclude each other."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each such rule."""
    for rule, by in checked.out_of_reach:
        if not by:
            location = ("rules", rule.index)
            yield Told(location, "can never match: its conditions exclude each other", "take a part out")


KIND = Kind(
    "rule-contradictory",
    "warning",
    find,
    whole=True,
    story="""\
All conditions of a rule must hold together. These exclude each other, so nothing ever matches.
""",
    has="""\
rules:
  - {local: office, not: {local: office}, queue: calls}
""",
    lacks="""\
rules:
  - {local: office, not: {local: 192.0.2.9}, queue: calls}
""",
)

"""A rule with the same conditions as an earlier one."""

from collections.abc import Iterator

from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.model import Rule


def find(checked: Checked) -> Iterator[Told]:
    """Each such rule."""
    for rule, by in checked.out_of_reach:
        if repeats(rule, by):
            same = by[0].queues == rule.queues and by[0].mark == rule.mark
            remedy = "remove one" if same else "remove one: the first decides"
            message = f"repeats {by[0].name} above it and is never reached"
            location = ("rules", rule.index)
            yield Told(location, message, remedy, (Remove(location),) if same else ())


def repeats(rule: Rule, by: list[Rule]) -> bool:
    """Whether the one rule that takes all of another asks for the very same."""
    return len(by) == 1 and by[0].terms == rule.terms


KIND = Kind(
    "rule-repeated",
    "warning",
    find,
    whole=True,
    story="""\
The first rule that matches decides. A second one with the same conditions is never reached.
""",
    has="""\
rules:
  - {name: A, port: 5060, queue: calls}
  - {name: B, port: 5060, queue: rest}
""",
    lacks="""\
rules:
  - {name: A, port: 5060, queue: calls}
  - {name: B, port: 5061, queue: rest}
""",
)

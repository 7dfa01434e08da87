"""A rule that no conversation comes to, since rules above it match all that it would.

Where names, services or what takes time is involved, the message says “may”, since these change as a conversation goes
on.
"""

from collections.abc import Iterator, Sequence

from wily_sluice.plan.asking import Terms
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rules.rule_repeated import repeats
from wily_sluice.plan.model import Route, Rule

MOST_NAMED = 3  # rules in one message


def find(checked: Checked) -> Iterator[Told]:
    """Each such rule that neither repeats another nor contradicts itself."""
    for rule, by in checked.out_of_reach:
        if not by or repeats(rule, by):
            continue
        location = ("rules", rule.index)
        names = listed(by)
        if len(by) == 1 and by[0].terms.anyone:
            yield Told(location, f"is never reached: {names} above it matches everything", "move it up")
            continue
        never = "may never be reached" if any(unsure(one.terms) for one in (rule, *by)) else "is never reached"
        takes = "matches everything that it would" if len(by) == 1 else "together match everything that it would"
        yield Told(location, f"{never}: {names} above it {takes}", "move it up or remove it")


def listed(by: Sequence[Rule | Route]) -> str:
    """The names of some that take all of another."""
    return ", ".join(one.name for one in by[:MOST_NAMED]) + (" and others" if len(by) > MOST_NAMED else "")


def unsure(terms: Terms) -> bool:
    """Whether what matches may change as a conversation goes on."""
    return any(
        part.services or part.rate or part.moved or (part.remote is not None and part.remote.members.names)
        or (part.local is not None and part.local.members.hardware)
        for part in terms.walk()
    )  # fmt: skip


KIND = Kind(
    "rule-unreachable",
    "warning",
    find,
    whole=True,
    story="""\
The first rule that matches decides. Rules above this one already match everything that it would, so it has no effect
where it stands. Exceptions come before the general case.
""",
    has="""\
rules:
  - {name: Office, local: office, queue: rest}
  - {name: Handset, local: 192.0.2.40, queue: calls}
""",
    lacks="""\
rules:
  - {name: Handset, local: 192.0.2.40, queue: calls}
  - {name: Office, local: office, queue: rest}
""",
)

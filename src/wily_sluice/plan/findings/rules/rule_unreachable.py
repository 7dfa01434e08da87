"""A rule that no conversation reaches because earlier rules match them all.

If names, services or volumes are involved, the message says “may”, because these change during a conversation.
"""

from collections.abc import Callable, Iterator, Sequence

from wily_sluice.plan.asking import Terms
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rules.rule_repeated import repeats
from wily_sluice.plan.model import Route, Rule

MOST_NAMED = 3  # rules in one message
# What is known of a conversation only after its first packet, by the word for it; and which terms ask for it.
UNTIL: dict[str, Callable[[Terms], bool]] = {
    "its service": lambda part: bool(part.services),
    "its rate": lambda part: bool(part.rate),
    "how much it moves": lambda part: bool(part.moved),
    "its remote's name": lambda part: part.remote is not None and bool(part.remote.members.names),
    "its hardware address": lambda part: part.local is not None and bool(part.local.members.hardware),
}


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
        until = [word for word, asks in UNTIL.items() if any(asks(part) for one in by for part in one.terms.walk())]
        own = any(unsure(one.terms) for one in (rule, *by))
        never = "may never be reached" if own else "is never reached"
        takes = "matches everything that it would" if len(by) == 1 else "together match everything that it would"
        when = f", once {' and '.join(until)} {'are' if len(until) > 1 else 'is'} known" if until else ""
        yield Told(location, f"{never}: {names} above it {takes}{when}", "move it up or remove it")


def listed(by: Sequence[Rule | Route]) -> str:
    """The names of some that take all of another."""
    return ", ".join(one.name for one in by[:MOST_NAMED]) + (" and others" if len(by) > MOST_NAMED else "")


def unsure(terms: Terms) -> bool:
    """Whether what matches may change as a conversation goes on."""
    return any(asks(part) for part in terms.walk() for asks in UNTIL.values())


KIND = Kind(
    "rule-unreachable",
    "warning",
    find,
    whole=True,
    story="""\
The first matching rule decides. Earlier rules already match all the conversations of this rule, so it has no effect
here. Put exceptions ahead of the general case.
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

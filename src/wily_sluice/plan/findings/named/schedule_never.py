"""A schedule that never applies; whether one with a calendar does is not known here."""

from collections.abc import Iterator
from contextlib import suppress

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.reach.regions import TooInvolvedError
from wily_sluice.plan.reach.space import moments


def find(checked: Checked) -> Iterator[Told]:
    """Each such schedule."""
    for schedule in checked.plan.schedules.values():
        if schedule.calendars:
            continue
        with suppress(TooInvolvedError):
            if (True,) not in moments([schedule]):
                message = "never applies: its windows, dates and exceptions leave no time"
                yield Told(("schedules", schedule.name), message, "remove something from it")


KIND = Kind(
    "schedule-never",
    "warning",
    find,
    story="""\
The windows and the dates of this schedule never coincide, so whatever uses it is always off.
""",
    has="""\
schedules:
  party: [sat, from 2027-03-01, until 2027-03-05]
limiters:
  visitors: {local: guests, down: 5 Mbit/s, when: party}
""",
    lacks="""\
schedules:
  party: [sat, from 2027-03-01, until 2027-03-06]
limiters:
  visitors: {local: guests, down: 5 Mbit/s, when: party}
""",
)

"""A schedule that no rule, route or limiter names."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each such schedule."""
    plan = checked.plan
    named = {terms.when for part in plan.asking for terms in part.terms.walk()}
    named |= {limiter.when for limiter in plan.limiters}
    for schedule in plan.schedules:
        if schedule not in named:
            yield Told(("schedules", schedule), "is not used", "use it or remove it")


KIND = Kind(
    "schedule-unused",
    "warning",
    find,
    whole=True,
    story="""\
No rule, route or limiter has `when:` with this schedule.
""",
    has="""\
schedules:
  evenings: [18:00-23:00]
""",
    lacks="""\
schedules:
  evenings: [18:00-23:00]
limiters:
  visitors: {local: guests, down: 5 Mbit/s, when: evenings}
""",
)

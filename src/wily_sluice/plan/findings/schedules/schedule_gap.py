"""Two windows of a schedule that leave out a few minutes between them."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.schedules.schedule import DAY_MINUTES, Window

LONGEST_GAP = 15  # minutes


def find(checked: Checked) -> Iterator[Told]:
    """Each such pair, on the same days or from one day into the next."""
    for schedule in checked.plan.schedules.values():
        for one in schedule.windows:
            for other in schedule.windows:
                if one is not other and (minutes := _gap(one, other)):
                    message = f"leaves out {minutes} min between “{one.words}” and “{other.words}”"
                    yield Told(("schedules", schedule.name), message, "let one window end when the other begins")


def _gap(one: Window, other: Window) -> int:
    """The minutes from the end of one window to the beginning of another, if these are few; else 0."""
    dated = one.first is not None or other.first is not None
    if dated or (one.days is not None and other.days is not None and not one.days & other.days):
        return 0
    gap = (other.begin - one.end) % DAY_MINUTES
    return gap if 0 < gap <= LONGEST_GAP else 0


KIND = Kind(
    "schedule-gap",
    "warning",
    find,
    story="""\
A window ends when its last minute begins: 22:00-23:59 leaves out the last minute of the day, and for that minute
the schedule is off. Write 24:00, or one window past midnight, such as 22:00-06:00.
""",
    has="""\
schedules:
  night: ["22:00-23:59", "00:00-06:00"]
limiters:
  visitors: {local: guests, per: host, down: 2 Mbit/s, when: night}
""",
    lacks="""\
schedules:
  night: ["22:00-24:00", "00:00-06:00"]
limiters:
  visitors: {local: guests, per: host, down: 2 Mbit/s, when: night}
""",
)

"""A window after midnight on chosen days: the night before is likely meant."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.schedules.schedule import DAYS

EARLY, DAWN = 4 * 60, 6 * 60  # minutes of the day


def find(checked: Checked) -> Iterator[Told]:
    """Each window on some days that begins and ends in the first hours."""
    for schedule in checked.plan.schedules.values():
        for window in schedule.windows:
            chosen = window.days is not None and len(window.days) < 7 and window.first is None
            if not chosen or not window.begin < EARLY or not window.begin < window.end <= DAWN:
                continue
            if any(other.end == 24 * 60 or other.end < other.begin for other in schedule.windows):
                continue  # the evening before is there
            day = min(window.days or ())
            message = f"“{window.words}” is the night from {DAYS[day - 1]} to {DAYS[day]}"
            remedy = "a window over midnight belongs to the day on which it begins: write it like sat 22:00-04:00"
            yield Told(("schedules", schedule.name), message, remedy)


KIND = Kind(
    "schedule-next-day",
    "warning",
    find,
    story="""\
The hours after midnight belong to the new day. “sat 00:00-04:00” is over before Saturday's evening begins. For the
night after Saturday's evening, write sat 22:00-04:00, which belongs to the day on which it begins.
""",
    has="""\
schedules:
  late: ["sat 00:00-04:00"]
limiters:
  visitors: {local: guests, per: host, down: 2 Mbit/s, when: late}
""",
    lacks="""\
schedules:
  late: ["sat 22:00-04:00"]
limiters:
  visitors: {local: guests, per: host, down: 2 Mbit/s, when: late}
""",
)

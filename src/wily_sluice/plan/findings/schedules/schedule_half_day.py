"""A window over midnight that lasts most of a day: likely the wrong half."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.schedules.schedule import DAY_MINUTES

LONG = 14 * 60  # minutes


def find(checked: Checked) -> Iterator[Told]:
    """Each such window."""
    for schedule in checked.plan.schedules.values():
        for window in schedule.windows:
            lasts = (window.end - window.begin) % DAY_MINUTES
            if window.end < window.begin and lasts > LONG and window.end <= DAY_MINUTES // 2:
                later = window.end + DAY_MINUTES // 2
                message = f"“{window.words}” lasts {lasts // 60} h {lasts % 60} min, over midnight"
                clock = f"{window.begin // 60:02}:{window.begin % 60:02}-{later // 60:02}:{later % 60:02}"
                yield Told(("schedules", schedule.name), message, f"write {clock} if you mean that half of the day")


KIND = Kind(
    "schedule-half-day",
    "warning",
    find,
    story="""\
Times use the 24-hour clock. 08:00-06:30 begins in the morning and ends the next morning; for half past six in the
evening, write 18:30.
""",
    has="""\
schedules:
  open: ["mon-fri 08:00-06:30"]
limiters:
  visitors: {local: guests, per: host, down: 2 Mbit/s, when: open}
""",
    lacks="""\
schedules:
  open: ["mon-fri 18:00-06:30"]
limiters:
  visitors: {local: guests, per: host, down: 2 Mbit/s, when: open}
""",
)

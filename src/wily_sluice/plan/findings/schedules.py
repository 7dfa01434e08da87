"""Findings about schedules that never apply, or that probably mean something else."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.schedules.schedule import DAY_MINUTES, DAYS, Window

LONGEST_GAP = 15  # minutes


def _gap(window: Window, other: Window) -> int:
    """The minutes from the end of one window to the beginning of another, if these are few; else 0."""
    dated = window.first is not None or other.first is not None
    if dated or (window.days is not None and other.days is not None and not window.days & other.days):
        return 0
    gap = (other.begin - window.end) % DAY_MINUTES
    return gap if 0 < gap <= LONGEST_GAP else 0


@kind(
    "schedule-gap",
    "warning",
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
def schedule_gap(checked: Checked) -> Iterator[Told]:
    """Two windows of a schedule that leave out a few minutes between them."""
    for schedule in checked.plan.schedules.values():
        for window in schedule.windows:
            for other in schedule.windows:
                if window is not other and (minutes := _gap(window, other)):
                    message = f"leaves out {minutes} min between “{window.words}” and “{other.words}”"
                    yield Told(("schedules", schedule.name), message, "let one window end when the other begins")


LONG = 14 * 60  # minutes


@kind(
    "schedule-half-day",
    "warning",
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
def schedule_half_day(checked: Checked) -> Iterator[Told]:
    """A window over midnight that lasts most of a day: likely the wrong half."""
    for schedule in checked.plan.schedules.values():
        for window in schedule.windows:
            lasts = (window.end - window.begin) % DAY_MINUTES
            if window.end < window.begin and lasts > LONG and window.end <= DAY_MINUTES // 2:
                later = window.end + DAY_MINUTES // 2
                message = f"“{window.words}” lasts {lasts // 60} h {lasts % 60} min, over midnight"
                clock = f"{window.begin // 60:02}:{window.begin % 60:02}-{later // 60:02}:{later % 60:02}"
                yield Told(("schedules", schedule.name), message, f"write {clock} if you mean that half of the day")


EARLY, DAWN = 4 * 60, 6 * 60  # minutes of the day


@kind(
    "schedule-next-day",
    "warning",
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
def schedule_next_day(checked: Checked) -> Iterator[Told]:
    """A window after midnight on chosen days: the night before is likely meant."""
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

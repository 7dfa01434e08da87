import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random
from zoneinfo import ZoneInfo

import pytest

from tests.conftest import drawings
from wily_sluice.outside.files import DiskFile
from wily_sluice.plan.model import Period
from wily_sluice.plan.reach.space import moments
from wily_sluice.plan.schedules.moment import period_start, read_past_moment
from wily_sluice.plan.schedules.schedule import CalendarFile, Entries, Schedule, overlaps, parse_window, spans

DUBLIN = ZoneInfo("Europe/Dublin")  # clocks go forward on 2027-03-28 at 01:00, and back on 2027-10-31 at 02:00


def schedule(*lines: object) -> Schedule:
    entries = Entries()
    for line in lines:
        entries.add(line)
    return Schedule("s", tuple(entries.windows), tuple(entries.exceptions), entries.first, entries.last)


def moment(text: str) -> datetime:
    when = datetime.fromisoformat(text)
    return when.astimezone(DUBLIN) if when.tzinfo else when.replace(tzinfo=DUBLIN)


OPEN = ("mon-fri 08:00-18:30", "sat 09:00-13:00")
NIGHT = ("fri 22:00-06:00",)


@pytest.mark.parametrize(
    ("lines", "when", "holds"),
    [
        (OPEN, "2027-03-01T08:00", True),  # a Monday; the first minute is inside
        (OPEN, "2027-03-01T07:59", False),
        (OPEN, "2027-03-01T18:30", False),  # the last is outside
        (OPEN, "2027-03-06T12:59", True),
        (OPEN, "2027-03-07T12:00", False),
        (("mon wed 10:00-11:00 ",), "2027-03-03T10:30", True),
        (("Monday, WEDNESDAYS 10:00-11:00 ",), "2027-03-03T10:30", True),
        (("mon, wed 10:00-11:00",), "2027-03-02T10:30", False),
        (("sat-mon 10:00-11:00",), "2027-03-07T10:30", True),  # over the end of the week
        (("sat-mon 10:00-11:00",), "2027-03-02T10:30", False),
        (NIGHT, "2027-03-05T23:00", True),  # Friday evening, and Saturday morning with it
        (NIGHT, "2027-03-06T05:59", True),
        (NIGHT, "2027-03-05T05:59", False),  # Friday morning belongs to Thursday
        (NIGHT, "2027-03-06T06:00", False),
        (("22:00-24:00",), "2027-03-06T23:59", True),
        (("22:00-24:00",), "2027-03-06T00:00", False),
        (("2028-02-29",), "2028-02-29T12:00", True),  # a leap day
        (("2028-02-29",), "2028-03-01T00:00", False),
        (("2027-12-24 to 2028-01-02 18:00-20:00",), "2027-12-31T19:00", True),
        (("2027-12-24 to 2028-01-02 18:00-20:00",), "2027-12-31T20:00", False),
        ((*OPEN, "not 2027-12-24"), "2027-12-24T10:00", False),  # a Friday
        ((*OPEN, "not 2027-12-24 12:00-24:00"), "2027-12-24T10:00", True),
        ((*NIGHT, "not 2027-12-25"), "2027-12-24T23:00", True),  # an exception excludes its own date
        ((*NIGHT, "not 2027-12-25"), "2027-12-25T01:00", False),
        ((*OPEN, "from 2027-03-02"), "2027-03-01T10:00", False),
        ((*OPEN, "from 2027-03-02"), "2027-03-02T10:00", True),
        ((*OPEN, "until 2027-03-02"), "2027-03-03T10:00", False),
        (("00:30-01:30",), "2027-03-28T00:45", True),
        (("00:30-01:30",), "2027-03-28T02:00", False),  # the clock shows 02:00 when 00:59 is over
        (("01:00-02:00",), "2027-10-31T00:30+00:00", True),  # 01:30 for the first time
        (("01:00-02:00",), "2027-10-31T01:30+00:00", True),  # 01:30 once more
        (("01:00-02:00",), "2027-10-31T02:00+00:00", False),
    ],
)
def test_a_schedule_holds_by_the_clock_on_the_wall(lines: tuple[str, ...], when: str, holds: bool) -> None:
    assert schedule(*lines).holds(moment(when)) is holds


def test_hours_that_the_clocks_skip_or_repeat_are_what_they_are() -> None:
    hour = schedule("01:00-02:00")
    (one,) = spans(hour, moment("2027-10-31T00:00"), moment("2027-10-31T12:00"))
    assert (one[1].timestamp() - one[0].timestamp()) == 7200
    assert not list(spans(hour, moment("2027-03-28T00:00"), moment("2027-03-28T12:00")))


@pytest.mark.parametrize(
    ("line", "says"),
    [
        ("8 to 11", "could be 08:00-11:00 or 20:00-23:00"),
        ("mon 8pm-9pm", "20:00 for 8 in the evening"),
        ("mon-fry 08:00-09:00", "“fry” is not a day"),
        ("monster 08:00-09:00", "“monster” is not a day"),
        ("satin 10:00-11:00", "“satin” is not a day"),
        ("mon 08:00-25:00", "is not valid"),
        ("24:30-08:00", "is not a time of day"),
        ("08:00-08:00", "begins when it ends"),
        ("2027-02-29", "there is no date"),
        ("2027-03-05 to 2027-03-01", "ends before it begins"),
        ("from spring", "there is no date “spring”"),
        ("", "write a window"),
        (7, "write a window"),
    ],
)
def test_a_line_that_cannot_be_is_refused_with_what_would_be_right(line: object, says: str) -> None:
    with pytest.raises(ValueError, match=says):
        schedule(line)


@pytest.mark.parametrize(
    "line", ["mon" * 40 + "!", "mon-fri" * 40 + " 08:0", "mon, " * 60 + "-", "mon" + " - fri" * 60]
)
def test_a_long_line_that_is_no_window_is_refused_as_fast_as_a_short_one(line: str) -> None:
    begun = time.thread_time()
    with pytest.raises(ValueError, match=r"is not valid|more than two ends|is not a day|no day of the week"):
        parse_window(line)
    assert time.thread_time() - begun < 1


def test_windows_that_say_the_same_twice_are_found() -> None:
    assert overlaps(schedule("22:00-06:00", "mon 05:00-07:00", "12:00-13:00")) == [("22:00-06:00", "mon 05:00-07:00")]
    assert not overlaps(schedule(*OPEN))


CALENDAR = """\
BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Saltmarsh Veterinary//EN
BEGIN:VEVENT
UID:1@saltmarsh.example
DTSTAMP:20270101T000000Z
DTSTART;TZID=Europe/Dublin:20270305T190000
DTEND;TZID=Europe/Dublin:20270305T210000
RRULE:FREQ=WEEKLY;COUNT=10
EXDATE;TZID=Europe/Dublin:20270312T190000
SUMMARY:Evening surgery
END:VEVENT
BEGIN:VEVENT
UID:2@saltmarsh.example
DTSTAMP:20270101T000000Z
DTSTART;VALUE=DATE:20270317
DTEND;VALUE=DATE:20270318
SUMMARY:Holiday
END:VEVENT
BEGIN:VEVENT
UID:1@saltmarsh.example
DTSTAMP:20270101T000000Z
RECURRENCE-ID;TZID=Europe/Dublin:20270326T190000
DTSTART;TZID=Europe/Dublin:20270326T190000
DTEND;TZID=Europe/Dublin:20270326T210000
STATUS:CANCELLED
SUMMARY:Evening surgery
END:VEVENT
BEGIN:VEVENT
UID:3@saltmarsh.example
DTSTAMP:20270101T000000Z
DTSTART;VALUE=DATE:20270320
STATUS:CANCELLED
SUMMARY:Open day
END:VEVENT
END:VCALENDAR
"""


@pytest.mark.parametrize(
    ("when", "holds"),
    [
        ("2027-03-05T19:00", True),
        ("2027-03-05T21:00", False),
        ("2027-03-12T19:30", False),  # the exception to the recurrence
        ("2027-03-19T19:30", True),
        ("2027-03-26T19:30", False),  # this one is cancelled
        ("2027-03-20T12:00", False),
        ("2027-04-02T19:30", True),  # after the clocks have gone forward, at the same time on the wall
        ("2027-05-07T19:30", True),  # the tenth
        ("2027-05-14T19:30", False),
        ("2027-03-17T00:00", True),
        ("2027-03-17T23:59", True),
        ("2027-03-18T00:00", False),
    ],
)
def test_events_of_a_calendar_hold_with_their_recurrence(tmp_path: Path, when: str, holds: bool) -> None:
    file = tmp_path / "surgery.ics"
    file.write_text(CALENDAR.replace("\n", "\r\n"))
    assert Schedule("s", calendars=(CalendarFile(DiskFile(file), DUBLIN),)).holds(moment(when)) is holds


def test_a_file_that_is_no_calendar_is_refused(tmp_path: Path) -> None:
    file = tmp_path / "surgery.ics"
    for content in (b"hello", b"\x00\xff\xfe", CALENDAR[:200].encode()):
        file.write_bytes(content)
        with pytest.raises(ValueError, match=r"surgery\.ics"):
            CalendarFile(DiskFile(file), DUBLIN)


@pytest.mark.parametrize(
    ("period", "starts", "when", "began"),
    [
        ("day", 0, "2027-03-28T00:00", "2027-03-28"),
        ("week", 0, "2027-03-28T12:00", "2027-03-22"),
        ("week", 6, "2027-03-28T12:00", "2027-03-28"),
        ("month", 1, "2027-03-28T12:00", "2027-03-01"),
        ("month", 15, "2027-03-14T23:59", "2027-02-15"),
        ("month", 15, "2027-01-03T12:00", "2026-12-15"),
        ("month", 31, "2027-02-28T12:00", "2027-02-28"),  # a month without the day starts on its last
        ("month", 31, "2027-02-27T12:00", "2027-01-31"),
    ],
)
def test_a_period_begins_on_its_day(period: Period, starts: int, when: str, began: str) -> None:
    assert period_start(period, starts, moment(when)).isoformat() == began


@pytest.mark.parametrize(
    ("lines", "now", "begins"),
    [
        (("18:00-23:00",), "2027-03-25 17:59", "2027-03-25 18:00"),
        (("18:00-23:00",), "2027-03-25 23:00", "2027-03-26 18:00"),
        (("18:00-23:00",), "2027-03-25 18:00", None),
        (("mon-fri 08:07-08:15",), "2027-03-26 09:00", "2027-03-29 08:07"),
        (("mon-fri 08:07-08:15", "not 2027-03-29"), "2027-03-26 09:00", "2027-03-30 08:07"),
        (("2028-01-01",), "2027-03-25 12:00", None),
    ],
)
def test_a_schedule_knows_when_it_begins_again(lines: tuple[str, ...], now: str, begins: str | None) -> None:
    found = schedule(*lines).next_begin(moment(now))
    assert found == (moment(begins) if begins is not None else None)


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("yesterday 15:00", "2027-03-24 15:00"),
        ("today 9", "2027-03-25 09:00"),
        ("18:00", "2027-03-24 18:00"),  # it is not yet six
        ("17:00", "2027-03-25 17:00"),
        ("thu 9:30", "2027-03-25 09:30"),
        ("thu 18:00", "2027-03-18 18:00"),
        ("Monday 9:30", "2027-03-22 09:30"),
        ("2027-03-01T08:00", "2027-03-01 08:00"),
    ],
)
def test_a_past_moment_is_the_last_that_the_words_mean(text: str, found: str) -> None:
    assert read_past_moment(text, DUBLIN, moment("2027-03-25 17:30")) == moment(found)


@pytest.mark.parametrize("text", ["mard 9:30", "25:00", "9:75", "lunch", ""])
def test_what_is_no_moment_is_told_with_what_would_be(text: str) -> None:
    with pytest.raises(ValueError, match="yesterday 15:00"):
        read_past_moment(text, DUBLIN, moment("2027-03-25 17:30"))


DRAWN = (
    *("mon-fri 08:10-08:25", "sat sun 10:00-12:00", "22:00-06:00", "fri 23:30-00:30", "2026-12-24 to 2026-12-31"),
    *("2032-02-29", "2027-03-28 01:15-03:45", "not 2026-12-25", "not wed", "not 2027-01-01 to 2030-01-01"),
    *("from 2026-12-20", "from 2029-05-05", "until 2099-12-31", "until 2026-12-26", "wed 00:00-24:00"),
)


def test_the_next_change_is_the_first_minute_that_differs() -> None:
    drawn = Random(1)
    for _ in range(drawings(60)):
        some = schedule(*drawn.sample(DRAWN, drawn.randint(1, 4)))
        now = moment(f"2026-12-{drawn.randint(18, 31)} {drawn.randint(0, 23):02}:{drawn.randint(0, 59):02}")
        change = some.next_change(now)
        minutes = (now.astimezone(UTC) + timedelta(minutes=number) for number in range(1, 6 * 1440))
        walls = (instant.astimezone(DUBLIN) for instant in minutes)
        first = next((wall for wall in walls if some.holds(wall) != some.holds(now)), None)
        assert change == first if first is not None else change is None or change > now + timedelta(days=5)


@pytest.mark.parametrize(
    ("lines", "now", "changes"),
    [
        (("2099-12-31 18:00-20:00",), "2026-12-01 12:00", "2099-12-31 18:00"),
        (("mon-fri 08:00-18:00", "from 2040-01-01"), "2026-12-01 12:00", "2040-01-02 08:00"),
        (("mon-fri 08:00-18:00", "until 2026-11-30"), "2026-12-01 12:00", None),
        (("sun 01:30-04:00",), "2027-03-28 00:00", "2027-03-28 02:00"),  # half past one does not occur
    ],
)
def test_a_change_is_found_however_far_away(lines: tuple[str, ...], now: str, changes: str | None) -> None:
    assert schedule(*lines).next_change(moment(now)) == (moment(changes) if changes else None)


def test_schedules_hold_together_as_they_do_minute_by_minute() -> None:
    drawn = Random(2)
    for _ in range(drawings(12)):
        some = [schedule(*drawn.sample(DRAWN, drawn.randint(1, 3))) for _ in range(2)]
        naive = [datetime(2026, 12, 10) + timedelta(minutes=5 * number) for number in range(24 * 288)]
        assert {tuple(one.holds(minute) for one in some) for minute in naive} <= moments(some)

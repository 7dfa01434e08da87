"""Schedules in the site's local time, also from iCalendar files (RFC 5545) with their recurrence.

A schedule is a list of windows, `mon-fri 08:00-18:30`, `sat sun 10:00-12:00`, `22:00-06:00` (past midnight, every day),
`2027-12-24`, `2027-12-24 to 2028-01-02 18:00-20:00`; exceptions, `not 2027-12-25`; a first and a last day, `from
2027-01-01`, `until 2027-06-30`; and events of an iCalendar file.

A window is open whenever local time and date are inside it. When clocks go back, a repeated hour therefore counts
twice; when they go forward, a skipped hour does not occur. A window past midnight belongs to the day on which it
begins; an exception excludes its own date, from midnight to midnight.
"""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from hashlib import sha256
from typing import Protocol
from zoneinfo import ZoneInfo

from wily_sluice.plan.file.source import Source
from wily_sluice.units import format_size, quoted

MOST_BYTES = 4_000_000


def _words(error: Exception) -> str:
    """A library's description of a problem, but not of its own internals."""
    return str(error) if isinstance(error, ValueError) else "one of its entries cannot be read"


class CalendarFile:
    """A calendar that has been read. ValueError when the file is none, OSError when it cannot be read.

    What cannot be computed is refused when the file is read; a later day that fails has no events. Days are worked
    out when they are first asked for. An event of a whole day lasts from midnight to midnight
    of the site's time zone; one without a time zone is in the site's.
    """

    def __init__(self, source: Source, zone: ZoneInfo) -> None:
        # These take a while to load, and most plans have no calendar.
        import icalendar
        import recurring_ical_events

        self._zone = zone
        name = source.last_name
        content = source.read(MOST_BYTES + 1)
        if len(content) > MOST_BYTES:
            raise ValueError(f"{name} is larger than {format_size(MOST_BYTES)}, which no calendar may be")
        self.digest = sha256(content).hexdigest()
        try:
            calendar = icalendar.Calendar.from_ical(content)
            self._events = recurring_ical_events.of(calendar)
        except Exception as error:  # the library raises many kinds for what a file may hold
            raise ValueError(f"{name} is not an iCalendar file: {_words(error)}") from None
        self._days: dict[date, list[tuple[datetime, datetime]]] = {}
        try:
            self._work_out(date(2027, 1, 1))
        except Exception as error:
            raise ValueError(f"{name}: {_words(error)}") from None

    def _moment(self, value: date | datetime) -> datetime:
        if not isinstance(value, datetime):
            value = datetime.combine(value, time.min)
        return value.replace(tzinfo=self._zone) if value.tzinfo is None else value

    def _on(self, day: date) -> list[tuple[datetime, datetime]]:
        windows = self._days.get(day)
        if windows is None:
            if len(self._days) > 400:
                self._days.clear()
            try:
                windows = self._work_out(day)
            except Exception:  # a gate that shapes must not end for a line of a calendar
                windows = []
            self._days[day] = windows
        return windows

    def _work_out(self, day: date) -> list[tuple[datetime, datetime]]:
        """Without cancelled events (RFC 5545 §3.8.1.11), which may be single occurrences."""
        events = self._events.between(day - timedelta(days=1), day + timedelta(days=2))
        held = (event for event in events if str(event.get("STATUS", "")).upper() != "CANCELLED")
        return [(self._moment(event.start), self._moment(event.end)) for event in held]

    def covers(self, moment: datetime) -> bool:
        """Whether an event goes on at this moment."""
        instant = moment.astimezone(UTC)
        return any(begin.astimezone(UTC) <= instant < end.astimezone(UTC) for begin, end in self._on(moment.date()))

    def edges(self, day: date) -> list[datetime]:
        """When events of a day begin and end, in the site's time zone."""
        return [edge.astimezone(self._zone) for event in self._on(day) for edge in event]


DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_DAY_NAMES = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
DAY_MINUTES = 24 * 60
MONDAY = date(2027, 1, 4)  # around which schedules are looked at that name no date
AHEAD = 8  # days within which the next beginning is told
AROUND = 9  # days before and after a date that a schedule names: a week, and the nights at both ends
CALENDAR_DAYS = 370  # for which events of calendars are looked through
MINUTE = timedelta(minutes=1)
_TIME = r"(?:[01]?\d|2[0-4]):[0-5]\d"
_DATE = r"\d{4}-\d{2}-\d{2}"
_ENTRY = re.compile(
    rf"(?:(?P<first>{_DATE})(?:\s*(?:to|\.\.)\s*(?P<last>{_DATE}))?|(?P<days>[a-z][a-z\s,+-]*+))?"
    rf"\s*(?:(?P<begin>{_TIME})\s*-\s*(?P<end>{_TIME}))?",
    re.IGNORECASE,
)
_HALF_SAID = re.compile(r"(\d{1,2})(?:[:.]\d\d)?\s*(?:to|-|–)\s*(\d{1,2})(?:[:.]\d\d)?$")


@dataclass(frozen=True, slots=True)
class Window:
    """Days of the week (Monday is 0) or dates, and minutes of the day; over midnight where `end` is not after `begin`.

    `words` are how the plan says it.
    """

    words: str
    begin: int = 0
    end: int = DAY_MINUTES
    days: frozenset[int] | None = None
    first: date | None = None
    last: date | None = None

    def _on(self, day: date) -> bool:
        if self.days is not None:
            return day.weekday() in self.days
        return self.first is None or self.last is None or self.first <= day <= self.last

    def covers(self, wall: datetime) -> bool:
        """Whether a time on the wall is inside."""
        minute = wall.hour * 60 + wall.minute
        if self.end > self.begin:
            return self.begin <= minute < self.end and self._on(wall.date())
        if minute >= self.begin and self._on(wall.date()):
            return True
        return minute < self.end and self._on(wall.date() - timedelta(days=1))


class Calendar(Protocol):
    """Events from somewhere else."""

    def covers(self, moment: datetime) -> bool:
        """Whether an event goes on at this moment, which knows its time zone."""

    def edges(self, day: date) -> list[datetime]:
        """When events of a day begin and end, in the site's time zone."""


@dataclass(frozen=True, slots=True)
class Schedule:
    """When something holds."""

    name: str
    windows: tuple[Window, ...] = ()
    exceptions: tuple[Window, ...] = ()
    first: date | None = None
    last: date | None = None
    calendars: tuple[Calendar, ...] = ()

    def next_change(self, moment: datetime, ahead: int = CALENDAR_DAYS) -> datetime | None:
        """When it next begins or ceases to hold, to the minute; None if it never does. Calendars are searched for this
        many days ahead.
        """
        holds, today = self.holds(moment), moment.date()
        soon = max(ahead, AROUND) if self.calendars else AROUND
        days = {today + timedelta(days=number) for number in range(soon + 1)}
        days |= {day for day in telling_days([self]) if day > today}
        for day in sorted(days):
            edges = [datetime.combine(day, time(m // 60, m % 60), moment.tzinfo) for m in boundaries([self])]
            edges += [edge for calendar in self.calendars for edge in calendar.edges(day)]
            # A time that the clocks skip is told as the one that they show instead.
            for edge in sorted(e.astimezone(UTC).astimezone(moment.tzinfo) if e.tzinfo else e for e in edges):
                if edge > moment and self.holds(edge) != holds:
                    while (before := _later(edge, -MINUTE)) > moment and self.holds(before) != holds:
                        edge = before
                    return edge
        return None

    def next_begin(self, moment: datetime) -> datetime | None:
        """When it next begins to hold, within the next AHEAD days; None if it does not, or holds now."""
        begin = None if self.holds(moment) else self.next_change(moment, AHEAD)
        return begin if begin is not None and begin - moment <= timedelta(days=AHEAD) else None

    def holds(self, moment: datetime) -> bool:
        """Whether it holds at a moment, given in the site's time zone."""
        day = moment.date()
        if (self.first is not None and day < self.first) or (self.last is not None and day > self.last):
            return False
        if any(exception.covers(moment) for exception in self.exceptions):
            return False
        return any(window.covers(moment) for window in self.windows) or any(
            calendar.covers(moment) for calendar in self.calendars
        )


def _later(moment: datetime, span: timedelta) -> datetime:
    """A moment later, of hours that last an hour even when the clocks skip or repeat one."""
    return (moment.astimezone(UTC) + span).astimezone(moment.tzinfo) if moment.tzinfo else moment + span


@dataclass(slots=True)
class Entries:
    """The combined entries of a schedule."""

    windows: list[Window] = field(default_factory=list)
    exceptions: list[Window] = field(default_factory=list)
    first: date | None = None
    last: date | None = None

    def add(self, text: object) -> None:
        """Read one line. Raises ValueError with a message fit for the person who wrote it."""
        if isinstance(text, date):
            text = text.isoformat()  # YAML reads a date by itself
        if not isinstance(text, str) or not text.strip():
            raise ValueError("write a window such as mon-fri 08:00-18:30, or a date such as 2027-12-24")
        words = " ".join(text.split())
        head, _, rest = words.partition(" ")
        match head.lower():
            case "not":
                self.exceptions.append(parse_window(rest))
            case "from":
                self.first = _date(rest)
            case "until":
                self.last = _date(rest)
            case _:
                self.windows.append(parse_window(words))


def parse_window(text: str) -> Window:
    """Read a window. ValueError describes a problem."""
    half = _HALF_SAID.match(text)
    if half and ":" not in text:
        a, b = int(half[1]), int(half[2])
        if a <= 12 and b <= 12:
            early, late = f"{a % 12:02}:00-{b % 12 or 12:02}:00", f"{a % 12 + 12:02}:00-{b % 12 + 12:02}:00"
            raise ValueError(f"{quoted(text)} could be {early} or {late}: write the one that you mean")
        raise ValueError(f"{quoted(text)} lacks its minutes: write it like {a:02}:00-{b:02}:00")
    if re.search(r"\d\s*[ap]\.?m\b", text, re.IGNORECASE):
        raise ValueError(f"{quoted(text)}: times are those of a day of 24 hours: 20:00 for 8 in the evening")
    match = _ENTRY.fullmatch(text)
    if match is None or not match[0]:
        raise ValueError(f"{quoted(text)} is not valid: write it like mon-fri 08:00-18:30, 22:00-06:00 or 2027-12-24")
    begin, end = (_minutes(match[key]) if match[key] else default for key, default in (("begin", 0), ("end", 1440)))
    if begin == end:
        raise ValueError(f"{quoted(text)} begins when it ends: leave the times out for the whole day")
    if match["first"]:
        first = _date(match["first"])
        last = _date(match["last"]) if match["last"] else first
        if last < first:
            raise ValueError(f"{quoted(text)} ends before it begins")
        return Window(text, begin, end, None, first, last)
    return Window(text, begin, end, _days(match["days"]) if match["days"] else None)


def _minutes(text: str) -> int:
    hours, minutes = map(int, text.split(":"))
    if hours * 60 + minutes > DAY_MINUTES:
        raise ValueError(f"{quoted(text)} is not a time of day: 00:00 to 24:00")
    return hours * 60 + minutes


def _date(text: str) -> date:
    try:
        return date.fromisoformat(text.strip())
    except ValueError:
        raise ValueError(
            f"there is no date {quoted(text.strip())}: write year, month and day, like 2027-12-24"
        ) from None


def _days(text: str) -> frozenset[int]:
    days: set[int] = set()
    for part in re.split(r"[\s,+]+", re.sub(r"\s*-\s*", "-", text.strip(" ,+"))):
        ends = [_day(word) for word in part.split("-")]
        if len(ends) > 2:
            raise ValueError(f"“{part}” has more than two ends: write it like mon-fri")
        first, last = ends[0], ends[-1]
        days |= {(first + step) % 7 for step in range((last - first) % 7 + 1)}
    return frozenset(days)


def _day(word: str) -> int:
    lower = word.lower()
    for number, day in enumerate(_DAY_NAMES):
        if len(lower) >= 3 and f"{day}s".startswith(lower):
            return number
    raise ValueError(f"{quoted(word)} is not a day: use {', '.join(DAYS)}")


def spans(schedule: Schedule, begin: datetime, end: datetime) -> Iterator[tuple[datetime, datetime]]:
    """When a schedule holds between two moments of the site's time zone, to the minute; each from, and until."""
    now, since = begin, None
    while now < end:
        if schedule.holds(now):
            since = since or now
        elif since is not None:
            yield since, now
            since = None
        now = _later(now, MINUTE)
    if since is not None:
        yield since, end


def boundaries(schedules: Sequence[Schedule]) -> list[int]:
    """The minutes of a day when a window or an exception begins or ends, and midnight."""
    windows = [window for schedule in schedules for window in (*schedule.windows, *schedule.exceptions)]
    return sorted({0, *(minute % DAY_MINUTES for window in windows for minute in (window.begin, window.end))})


def telling_days(schedules: Sequence[Schedule]) -> list[date]:
    """Days that show everything that schedules ever do together, but for calendars. Around a date that one names, days
    differ; between such dates, weeks repeat.
    """
    windows = [window for schedule in schedules for window in (*schedule.windows, *schedule.exceptions)]
    named = {day for window in windows for day in (window.first, window.last) if day is not None}
    named |= {day for schedule in schedules for day in (schedule.first, schedule.last) if day is not None}
    around = range(-AROUND, AROUND + 1)
    return sorted(
        {day + timedelta(days=number) for day in named or {MONDAY} for number in around if _there(day, number)}
    )


def _there(day: date, number: int) -> bool:
    """Whether the calendar has a day so many after another."""
    return date.min.toordinal() <= day.toordinal() + number <= date.max.toordinal()


def overlaps(schedule: Schedule) -> list[tuple[str, str]]:
    """Pairs of windows, as the plan says them, that both cover some minute."""
    pairs = []
    for index, window in enumerate(schedule.windows):
        for other in schedule.windows[:index]:
            two = [Schedule("", (window, other))]
            moments = (
                datetime.combine(day, time(minute // 60, minute % 60))
                for day in telling_days(two)
                for minute in boundaries(two)
            )
            if any(window.covers(moment) and other.covers(moment) for moment in moments):
                pairs.append((other.words, window.words))
    return pairs

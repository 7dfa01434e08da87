"""Events of an iCalendar file (RFC 5545), with their recurrence, as a source for a schedule."""

from datetime import UTC, date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from wily_sluice.plan.file.source import Source
from wily_sluice.units import format_size

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
        found = self._days.get(day)
        if found is None:
            if len(self._days) > 400:
                self._days.clear()
            try:
                found = self._work_out(day)
            except Exception:  # a gate that shapes must not end for a line of a calendar
                found = []
            self._days[day] = found
        return found

    def _work_out(self, day: date) -> list[tuple[datetime, datetime]]:
        events = self._events.between(day - timedelta(days=1), day + timedelta(days=2))
        return [(self._moment(event.start), self._moment(event.end)) for event in events]

    def covers(self, moment: datetime) -> bool:
        """Whether an event goes on at this moment."""
        instant = moment.astimezone(UTC)
        return any(begin.astimezone(UTC) <= instant < end.astimezone(UTC) for begin, end in self._on(moment.date()))

"""Periods of a quota, in the site's own time: which one a moment is in, and when it began."""

from calendar import monthrange
from datetime import date, datetime, timedelta

from wily_sluice.plan.model import Period
from wily_sluice.plan.schedules.schedule import DAYS
from wily_sluice.units import quoted


def parse_start(word: int | str, period: Period | None) -> int:
    """The day that a period starts on: of the month from 1, or of the week from 0. ValueError when it cannot."""
    if period == "month" and isinstance(word, int) and 1 <= word <= 31:
        return word
    if period == "week" and isinstance(word, str) and word.lower()[:3] in DAYS:
        return DAYS.index(word.lower()[:3])
    if period == "month":
        raise ValueError(f"a month starts on a day from 1 to 31, not {quoted(word)}")
    if period == "week":
        raise ValueError(f"a week starts on a day such as mon, not {quoted(word)}")
    raise ValueError("only a quota per month or per week has a day that it starts on")


def period_start(period: Period, starts: int, moment: datetime) -> date:
    """The first day of the period that a moment is in. A month without its day 31 starts on its last."""
    day = moment.date()
    if period == "day":
        return day
    if period == "week":
        return day - timedelta(days=(day.weekday() - starts) % 7)
    first = _day_of_month(day.year, day.month, starts)
    if first > day:
        year, month = (day.year, day.month - 1) if day.month > 1 else (day.year - 1, 12)
        first = _day_of_month(year, month, starts)
    return first


def _day_of_month(year: int, month: int, day: int) -> date:
    return date(year, month, min(day, monthrange(year, month)[1]))

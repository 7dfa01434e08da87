"""Moments as a person writes them, and periods of a quota."""

import re
from calendar import monthrange
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

from wily_sluice.plan.model import Period
from wily_sluice.plan.schedules.schedule import DAYS
from wily_sluice.units import quoted

_SPOKEN = re.compile(r"(?:(?P<day>today|yesterday|[a-z]+)\s+)?(?P<hour>\d{1,2})(?::(?P<minute>\d\d))?", re.IGNORECASE)
LIKE = "write it like 2027-03-25T14:30"
PAST = f"{LIKE}, or yesterday 15:00, mon 9:30, 18:00"


def read_moment(text: str, zone: ZoneInfo) -> datetime:
    """A moment of the site's time, such as `2027-03-25T14:30`. ValueError when there is none, or there are two."""
    try:
        wall = datetime.fromisoformat(text)
    except ValueError:
        raise ValueError(f"“{text}” is not a moment: {LIKE}") from None
    if wall.tzinfo is not None:
        return wall.astimezone(zone)
    first, second = (wall.replace(tzinfo=zone, fold=fold) for fold in (0, 1))
    if first.utcoffset() != second.utcoffset():
        if first.astimezone(UTC).astimezone(zone).replace(tzinfo=None) != wall:
            raise ValueError(f"{text} does not occur in {zone.key}: the clocks are put forward over it")
        offsets = " or ".join(
            f"{wall.isoformat()}{moment:%z}"[:-2] + ":" + f"{moment:%z}"[-2:] for moment in (first, second)
        )
        raise ValueError(f"{text} occurs twice in {zone.key}, as the clocks go back: write {offsets}")
    return first


def read_past_moment(text: str, zone: ZoneInfo, now: datetime) -> datetime:
    """The same, or the last `yesterday 15:00`, `mon 9:30` or `18:00` ahead of `now`. Raises ValueError too."""
    match = _SPOKEN.fullmatch(text.strip())
    if match is None:
        try:
            return read_moment(text, zone)
        except ValueError as error:
            raise ValueError(str(error).replace(LIKE, PAST)) from None
    day = now.astimezone(zone).date()
    word = (match["day"] or "today").lower()
    if word == "yesterday":
        day -= timedelta(days=1)
    elif word != "today":
        if word[:3] not in DAYS:
            raise ValueError(f"“{text}” is not a moment: {PAST}")
        day -= timedelta(days=(day.weekday() - DAYS.index(word[:3])) % 7)
    hour, minute = int(match["hour"]), int(match["minute"] or 0)
    if hour > 23 or minute > 59:
        raise ValueError(f"“{text}” is not a time of day: {PAST}")
    moment = read_moment(f"{day.isoformat()}T{hour:02}:{minute:02}", zone)
    if moment > now and match["day"] is None:
        moment = read_moment(f"{(day - timedelta(days=1)).isoformat()}T{hour:02}:{minute:02}", zone)
    elif moment > now and word not in ("today", "yesterday"):
        moment = read_moment(f"{(day - timedelta(days=7)).isoformat()}T{hour:02}:{minute:02}", zone)
    return moment


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

"""A moment, as a person writes it."""

import re
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from wily_sluice.plan.schedules.schedule import DAYS

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
        offsets = " or ".join(f"{wall.isoformat()}{one:%z}"[:-2] + ":" + f"{one:%z}"[-2:] for one in (first, second))
        raise ValueError(f"{text} occurs twice in {zone.key}, as the clocks go back: write {offsets}")
    return first


def read_past_moment(text: str, zone: ZoneInfo, now: datetime) -> datetime:
    """The same, or the last `yesterday 15:00`, `mon 9:30` or `18:00` ahead of `now`. Raises ValueError too."""
    found = _SPOKEN.fullmatch(text.strip())
    if found is None:
        try:
            return read_moment(text, zone)
        except ValueError as error:
            raise ValueError(str(error).replace(LIKE, PAST)) from None
    day = now.astimezone(zone).date()
    word = (found["day"] or "today").lower()
    if word == "yesterday":
        day -= timedelta(days=1)
    elif word != "today":
        if word[:3] not in DAYS:
            raise ValueError(f"“{text}” is not a moment: {PAST}")
        day -= timedelta(days=(day.weekday() - DAYS.index(word[:3])) % 7)
    hour, minute = int(found["hour"]), int(found["minute"] or 0)
    if hour > 23 or minute > 59:
        raise ValueError(f"“{text}” is not a time of day: {PAST}")
    moment = read_moment(f"{day.isoformat()}T{hour:02}:{minute:02}", zone)
    if moment > now and found["day"] is None:
        moment = read_moment(f"{(day - timedelta(days=1)).isoformat()}T{hour:02}:{minute:02}", zone)
    elif moment > now and word not in ("today", "yesterday"):
        moment = read_moment(f"{(day - timedelta(days=7)).isoformat()}T{hour:02}:{minute:02}", zone)
    return moment

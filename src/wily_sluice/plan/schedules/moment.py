"""A moment, as a person writes it."""

from datetime import UTC, datetime
from zoneinfo import ZoneInfo


def read_moment(text: str, zone: ZoneInfo) -> datetime:
    """A moment of the site's time, such as `2027-03-25T14:30`. ValueError when there is none, or there are two."""
    try:
        wall = datetime.fromisoformat(text)
    except ValueError:
        raise ValueError(f"“{text}” is not a moment: write it like 2027-03-25T14:30") from None
    if wall.tzinfo is not None:
        return wall.astimezone(zone)
    first, second = (wall.replace(tzinfo=zone, fold=fold) for fold in (0, 1))
    if first.utcoffset() != second.utcoffset():
        if first.astimezone(UTC).astimezone(zone).replace(tzinfo=None) != wall:
            raise ValueError(f"{text} does not occur in {zone.key}: the clocks are put forward over it")
        offsets = " or ".join(f"{wall.isoformat()}{one:%z}"[:-2] + ":" + f"{one:%z}"[-2:] for one in (first, second))
        raise ValueError(f"{text} occurs twice in {zone.key}, as the clocks are put back: write {offsets}")
    return first

"""Bars and courses of values, drawn with characters."""

from collections.abc import Sequence

BAR = 16  # columns
EIGHTHS = " ▏▎▍▌▋▊▉█"
SPARKS = "▁▂▃▄▅▆▇█"


def bar(part: float, width: int = BAR) -> str:
    """A bar of `width` columns, filled to `part` (0 to 1) with a resolution of an eighth of a column."""
    eighths = round(part * width * 8)
    full, rest = divmod(eighths, 8)
    return ("█" * full + (EIGHTHS[rest] if rest else "")).ljust(width)


def range_bar(guaranteed: float, reachable: float, width: int = BAR) -> str:
    """A bar of `width` columns: full up to `guaranteed`, then thin up to `reachable`; both from 0 to 1.

    Values above 0 fill at least one column.
    """
    full = max(round(guaranteed * width), 1 if guaranteed > 0 else 0)
    reach = max(round(reachable * width), full, 1)
    return ("█" * full + "─" * (reach - full)).ljust(width)


def sparkline(values: Sequence[float], highest: float) -> str:
    """A character each: its height is the value's part of `highest`, and nothing is blank."""
    return "".join(" " if value <= 0 else SPARKS[min(7, int(value / highest * 8))] for value in values)

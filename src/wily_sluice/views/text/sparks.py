"""A course of values in one line of text."""

from collections.abc import Sequence

SPARKS = "▁▂▃▄▅▆▇█"


def sparkline(values: Sequence[float], most: float) -> str:
    """A character each: its height is the value's part of `most`, and nothing is blank."""
    return "".join(" " if value <= 0 else SPARKS[min(7, int(value / most * 8))] for value in values)

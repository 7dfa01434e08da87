"""The limiters that cap something, and their caps."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked
from wily_sluice.plan.model import Limiter
from wily_sluice.units import DIRECTIONS, Direction, Rate


def caps_of(limiter: Limiter) -> dict[Direction, Rate]:
    """The directions that it caps, with the rate of each."""
    return {way: rate for way in DIRECTIONS if (rate := limiter.rate(way)) is not None}


def capping(checked: Checked) -> Iterator[tuple[Limiter, dict[Direction, Rate]]]:
    """The limiters that cap a direction, with their rates."""
    return ((limiter, caps) for limiter in checked.plan.limiters if (caps := caps_of(limiter)))

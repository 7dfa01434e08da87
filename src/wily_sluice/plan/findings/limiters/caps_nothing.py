"""A limiter that caps neither direction."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import caps_of
from wily_sluice.units import DIRECTIONS


def find(checked: Checked) -> Iterator[Told]:
    """Each such limiter."""
    for limiter in checked.plan.limiters:
        here = ("limiters", limiter.name)
        if not caps_of(limiter) and not any(checked.reading.was_cut(*here, way) for way in DIRECTIONS):
            yield Told(here, "caps neither direction", "add `down: 6 Mbit/s`, `up: 1 Mbit/s` or both")


KIND = Kind(
    "caps-nothing",
    "error",
    find,
    story="""\
A limiter caps a rate, up or down. This one names hosts but no rate.
""",
    has="""\
limiters:
  visitors: {local: guests}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s}
""",
)

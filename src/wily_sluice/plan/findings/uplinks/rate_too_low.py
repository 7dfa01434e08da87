"""A line slower than any line: most likely the unit is wrong."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.units import DIRECTIONS, Rate, format_rate

SLOWEST: Rate = 32_000  # bit/s


def find(checked: Checked) -> Iterator[Told]:
    """Each uplink and direction."""
    for uplink in checked.plan.uplinks:
        for way in DIRECTIONS:
            if uplink.usable(way) < SLOWEST:
                message = f"{format_rate(uplink.measured(way))} is slower than any line; is the unit right?"
                yield Told(("uplinks", uplink.name, way), message, "write it like 24 Mbit/s")


KIND = Kind(
    "rate-too-low",
    "warning",
    find,
    story="""\
No line is this slow. Most likely the unit is wrong, such as kbit/s for Mbit/s, and everything would be squeezed into
a fraction of the line.
""",
    has="""\
uplinks:
  line: {up: 30 kbit/s}
""",
    lacks="""\
uplinks:
  line: {up: 64 kbit/s}
""",
)

"""A line whose measured rate is exactly the advertised one."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.units import DIRECTIONS, format_rate


def find(checked: Checked) -> Iterator[Told]:
    """Each uplink and direction with both rates."""
    for uplink in checked.plan.uplinks:
        for way in DIRECTIONS:
            if uplink.advertised.of(way) == uplink.measured(way):
                message = f"{format_rate(uplink.measured(way))} {way} is the advertised rate: did you measure it?"
                yield Told(("uplinks", uplink.name, way), message, "measure the line when it is quiet, and write that")


KIND = Kind(
    "measured-as-advertised",
    "warning",
    find,
    story="""\
Shaping needs the rate that the line really has. The advertised rate is often higher. Packets then queue in the
modem, where a plan has no effect.
""",
    has="""\
uplinks:
  line: {advertised: {down: 50 Mbit/s}}
""",
    lacks="""\
uplinks:
  line: {advertised: {down: 55 Mbit/s}}
""",
)

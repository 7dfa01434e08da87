"""An uplink with a measured rate above the advertised one."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.units import DIRECTIONS, format_rate

NEARLY = 1.1  # of what was advertised: some lines have a little more


def find(checked: Checked) -> Iterator[Told]:
    """Each uplink and direction with both rates."""
    for uplink in checked.plan.uplinks:
        for way in DIRECTIONS:
            advertised = uplink.advertised.of(way)
            if advertised is not None and uplink.measured(way) > advertised * NEARLY:
                message = (
                    f"{format_rate(uplink.measured(way))} {way} is above the {format_rate(advertised)} that were "
                    "advertised: packets queue in the modem"
                )
                yield Told(("uplinks", uplink.name, way), message, "measure again; short bursts measure too much")


KIND = Kind(
    "measured-above-advertised",
    "warning",
    find,
    story="""\
Some lines send a short burst faster than they can sustain, and a quick measurement shows the burst. If the plan's
rate is above the sustained rate, packets queue in the modem.
""",
    has="""\
uplinks:
  line: {advertised: {down: 40 Mbit/s}}
""",
    lacks="""\
uplinks:
  line: {advertised: {down: 48 Mbit/s}}
""",
)

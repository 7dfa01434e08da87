"""A headroom so small that packets still wait in the modem."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.units import DIRECTIONS, format_share

LEAST = 0.02  # of the measured rate


def find(checked: Checked) -> Iterator[Told]:
    """Each uplink."""
    for uplink in checked.plan.uplinks:
        for way in DIRECTIONS:
            headroom = uplink.headroom.of(way) or 0
            if headroom < LEAST:
                message = f"with {format_share(headroom)} left free {way}, packets queue in the modem, out of reach"
                yield Told(("uplinks", uplink.name, "headroom"), message, "use 5% to 10%")


KIND = Kind(
    "little-headroom",
    "warning",
    find,
    once=True,
    story="""\
A queue forms at the slowest point. The gate only decides the order of packets if that point is the gate itself, so it
must send a little less than the line carries. Without headroom, packets wait in the modem instead, first come first
served, and no plan has any effect there. 3 to 5% is enough on symmetric fibre; copper, cable and shared lines need 8
to 15%, radio about 25%.
""",
    has="""\
uplinks:
  line: {headroom: 1%}
""",
    lacks="""\
uplinks:
  line: {headroom: 2%}
""",
)

"""A headroom that leaves nothing of the line."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.units import DIRECTIONS


def find(checked: Checked) -> Iterator[Told]:
    """Each uplink."""
    for uplink in checked.plan.uplinks:
        if any((uplink.headroom.of(way) or 0) >= 1 for way in DIRECTIONS):
            location = ("uplinks", uplink.name, "headroom")
            yield Told(location, "nothing of the line is left", "write it like 8%")


KIND = Kind(
    "nothing-usable",
    "error",
    find,
    story="""\
Headroom is the part of the measured rate to leave free. At 100%, no rate is left for any queue.
""",
    has="""\
uplinks:
  line: {headroom: 100%}
""",
    lacks="""\
uplinks:
  line: {headroom: 50%}
""",
)

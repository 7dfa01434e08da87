"""A limiter that a test on an idle line does not show."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.units import format_rate, format_share


def find(checked: Checked) -> Iterator[Told]:
    """Each limiter that holds only while others need the line."""
    for limiter, caps in capping(checked):
        if limiter.threshold is not None and limiter.enabled:
            rates = " and ".join(f"{format_rate(rate)} {way}" for way, rate in caps.items())
            message = (
                f"holds only while others use the line above {format_share(limiter.threshold)}: a test on an idle line "
                f"shows more than {rates}"
            )
            yield Told(("limiters", limiter.name, "engage"), message, "to test it, fill the line from another host")


KIND = Kind(
    "engage-idle",
    "note",
    find,
    story="""\
This limiter leaves its hosts the idle uplink, as intended. A speed test without other traffic shows the full rate,
which can look as if the limiter did not work.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 20 Mbit/s, engage: above 80%}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 20 Mbit/s}
""",
)

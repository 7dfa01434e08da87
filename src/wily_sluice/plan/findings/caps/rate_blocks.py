"""A rate so low that one packet takes half a second or more."""

from collections.abc import Iterator

from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.units import MILLISECOND, format_rate, format_time, transmission_time

LONG = 500 * MILLISECOND


def find(checked: Checked) -> Iterator[Told]:
    """Each direction of each limiter."""
    for limiter, caps in capping(checked):
        for way, rate in caps.items():
            wait = transmission_time(LONGEST_FRAME, rate)
            if wait >= LONG:
                message = (
                    f"at {format_rate(rate)}, one full packet takes {format_time(wait)}: nothing works at that rate"
                )
                yield Told(("limiters", limiter.name, way), message, "to block hosts, use the firewall")


KIND = Kind(
    "rate-blocks",
    "warning",
    find,
    story="""\
A rate near zero does not block a host: its programs keep trying, and the user sees a broken connection. To keep
hosts out, reject their packets in the firewall, so that programs fail at once.
""",
    has="""\
limiters:
  tablet: {local: 192.0.2.9, down: 8 kbit/s}
""",
    lacks="""\
limiters:
  tablet: {local: 192.0.2.9, down: 64 kbit/s}
""",
)

"""A peak that is less than the rate."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.units import format_rate_both


def find(checked: Checked) -> Iterator[Told]:
    """Each direction of each limiter."""
    for limiter, caps in capping(checked):
        for way, rate in caps.items():
            peak = limiter.peak.of(way)
            if peak is not None and peak < rate:
                message = f"the peak of {format_rate_both(peak)} {way} is below the rate of {format_rate_both(rate)}"
                yield Told(("limiters", limiter.name, "peak"), message, "a peak is at least the rate")


KIND = Kind(
    "peak-below-rate",
    "error",
    find,
    story="""\
The peak is the rate of a burst, so it must be higher than the limiter's own rate.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, peak: 4 Mbit/s, excess: drop}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, peak: 8 Mbit/s, excess: drop}
""",
)

"""A burst so small that a connection of TCP does not reach the cap."""

from collections.abc import Iterator
from itertools import pairwise

from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.burst_below_packet import polices, too_small
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.plan.model import policing_burst
from wily_sluice.units import SECOND, Nanoseconds, Rate, Size, format_rate_both, format_share, format_size, format_time

# A burst, over what the rate is in a round trip; and the part of the rate that one connection of TCP then comes to.
POLICED = ((0.0, 0.02), (0.1, 0.16), (0.25, 0.39), (0.5, 0.75), (1.0, 0.92), (2.0, 0.98), (4.0, 1.0))


def find(checked: Checked) -> Iterator[Told]:
    """Each limiter that drops, once."""
    for limiter, caps in capping(checked):
        if not polices(limiter) or any(too_small(limiter, rate) for rate in caps.values()):
            continue
        for way, rate in caps.items() if limiter.excess == "drop" else ():
            burst, wanted = limiter.burst_of(rate), policing_burst(rate, limiter.round_trip)
            if limiter.peak.of(way) is None and burst < wanted // 2:
                part = policed_part(burst, rate, limiter.round_trip)
                message = (
                    f"with {format_size(burst)} of burst, one TCP connection reaches about "
                    f"{format_share(round(part, 2))} of {format_rate_both(rate)} {way}, at a round trip of "
                    f"{format_time(limiter.round_trip)}"
                )
                remedy = f"remove it (the default is {format_size(wanted)}), or write `excess: wait`"
                location = ("limiters", limiter.name, "burst")
                yield Told(location, message, remedy, (Remove(location),))


def policed_part(burst: Size, rate: Rate, round_trip: Nanoseconds) -> float:
    """The fraction of a policed rate that one TCP connection reaches: docs/performance.md has the measurement."""
    ratio = burst * 8 * SECOND / (rate * round_trip)
    for (low, less), (high, more) in pairwise(POLICED):
        if ratio <= high:
            return less + (more - less) * (ratio - low) / (high - low)
    return POLICED[-1][1]


KIND = Kind(
    "burst-below-window",
    "warning",
    find,
    once=True,
    story="""\
TCP sends a window at a time. If the excess is dropped and the burst is smaller than the window, TCP takes each drop
for congestion, halves its rate, and never reaches the cap. Let the excess wait, or allow a burst of two round trips.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, excess: drop, burst: 5 kB}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, excess: drop, burst: 65 kB}
""",
)

"""A peak or an excess burst of a limiter whose excess is queued: nothing lies between passing and waiting."""

from collections.abc import Iterator

from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.units import DIRECTIONS


def find(checked: Checked) -> Iterator[Told]:
    """Each such limiter."""
    for limiter, _ in capping(checked):
        peaked = any(limiter.peak.of(way) is not None for way in DIRECTIONS)
        if limiter.excess == "wait" and (limiter.excess_burst is not None or peaked):
            location = ("limiters", limiter.name, "peak" if peaked else "excess-burst")
            remedy = "write `excess: drop`, or remove it"
            yield Told(location, "has no effect with excess: wait", remedy, (Remove(location),))


KIND = Kind(
    "second-burst-unused",
    "error",
    find,
    story="""\
A peak and an excess burst decide between passing, marking and dropping. If the excess waits, there is nothing to
decide.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, peak: 8 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, peak: 8 Mbit/s, excess: drop}
""",
)

"""A burst that is smaller than a full frame, which then never passes."""

from collections.abc import Iterator

from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.plan.model import Limiter, policing_burst
from wily_sluice.units import Rate, format_size


def find(checked: Checked) -> Iterator[Told]:
    """Each limiter that polices, once."""
    for limiter, caps in capping(checked):
        for way, rate in caps.items() if polices(limiter) else ():
            if too_small(limiter, rate):
                message = (
                    f"{format_size(limiter.burst_of(rate))} {way} is less than a full frame of {LONGEST_FRAME} B, "
                    "which never passes"
                )
                wanted = format_size(policing_burst(rate, limiter.round_trip))
                location = ("limiters", limiter.name, "burst")
                yield Told(location, message, f"at least {LONGEST_FRAME} B; {wanted} suits TCP", (Remove(location),))


def polices(limiter: Limiter) -> bool:
    """Whether the limiter sets a burst and its excess does not wait."""
    return limiter.burst is not None and limiter.excess != "wait"


def too_small(limiter: Limiter, rate: Rate) -> bool:
    """Whether a full frame never passes at this rate."""
    return limiter.burst_of(rate) < LONGEST_FRAME and limiter.excess_burst is None


KIND = Kind(
    "burst-below-packet",
    "error",
    find,
    once=True,
    story="""\
A burst smaller than one full frame never has room for such a frame, so every full packet is dropped and connections
hang.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, excess: drop, burst: 1000 B}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, excess: drop, burst: 80 kB}
""",
)

"""A cap for a busy line alone that is more than the line has when it is that busy."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.cap_without_effect import widest_line
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.units import format_rate_both, format_share


def find(checked: Checked) -> Iterator[Told]:
    """Each direction of each limiter with `engage`."""
    for limiter, caps in capping(checked):
        for way, rate in caps.items() if limiter.threshold is not None else ():
            widest = widest_line(checked.plan, limiter, way)
            if (limiter.threshold or 0) * widest <= rate < widest:
                part = format_share(limiter.threshold or 0)
                message = f"has no effect {way}: the cap of {format_rate_both(rate)} is above {part} of the usable rate"
                remedy = "lower the cap or remove “engage”"
                yield Told(("limiters", limiter.name, "engage"), message, remedy)


KIND = Kind(
    "engage-without-effect",
    "warning",
    find,
    story="""\
With `engage: above 80%`, a limiter applies only while the uplink is busier than that. A cap above that part of the
uplink's rate has no effect, because the uplink is that busy before the cap matters.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 40 Mbit/s, engage: above 80%}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 20 Mbit/s, engage: above 80%}
""",
)

"""A cap that is more than any uplink has."""

from collections.abc import Iterator

from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.plan.model import Limiter, Plan
from wily_sluice.units import HIGHEST_RATE, Direction, Rate, format_rate_both


def find(checked: Checked) -> Iterator[Told]:
    """Each direction of each limiter."""
    for limiter, caps in capping(checked):
        for way, rate in caps.items():
            widest = widest_line(checked.plan, limiter, way)
            if rate >= widest:
                message = f"{format_rate_both(rate)} has no effect: no uplink has more than {format_rate_both(widest)}"
                location: Location = ("limiters", limiter.name, way)
                idle = all(cap >= widest_line(checked.plan, limiter, one) for one, cap in caps.items())
                yield Told(
                    location, message, f"lower it or remove “{way}”", (Remove(location[:2] if idle else location),)
                )


def widest_line(plan: Plan, limiter: Limiter, way: Direction) -> Rate:
    """The usable rate of the widest uplink that a limiter is for."""
    lines = [uplink for uplink in plan.uplinks if limiter.uplink in (None, uplink.name)]
    return max((uplink.usable(way) for uplink in lines), default=HIGHEST_RATE)


KIND = Kind(
    "cap-without-effect",
    "warning",
    find,
    story="""\
No uplink is as fast as this cap, so it never limits anything.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 60 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 40 Mbit/s}
""",
)

"""A rate that was most likely worked out with the wrong factor, 1024 for 1000."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.units import DIRECTIONS, format_rate


def find(checked: Checked) -> Iterator[Told]:
    """Each rate that is a whole number of 1024 kbit/s; 1024 and 2048 kbit/s are rates that lines are sold with."""
    plan = checked.plan
    rates = [(("uplinks", u.name, way), u.measured(way)) for u in plan.uplinks for way in DIRECTIONS]
    rates += [(("limiters", lim.name, way), lim.rate(way) or 0) for lim in plan.limiters for way in DIRECTIONS]
    for location, rate in rates:
        for binary in (2**20, 1024 * 1000):
            times = rate // binary
            if rate % binary == 0 and times > 2 and rate % 10**6:
                message = f"{format_rate(rate)} is {times} × {binary:,} bit/s, and 1 Mbit/s is 1,000,000 bit/s"
                yield Told(location, message, f"write {times} Mbit/s if you mean that")
                break


KIND = Kind(
    "binary-rate",
    "warning",
    find,
    story="""\
Rates of lines are decimal: 1 Mbit/s is 1,000,000 bit/s. This one is a multiple of 1,048,576 or 1,024,000, so it was
probably converted with 1024. A line set 5% too fast queues in the modem.
""",
    has="""\
uplinks:
  line: {down: 51200 kbit/s}
""",
    lacks="""\
uplinks:
  line: {down: 51000 kbit/s}
""",
)

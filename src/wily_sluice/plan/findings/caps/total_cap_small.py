"""A cap for many hosts together that is so small that a cap for each was likely meant."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.cap_without_effect import widest_line
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.units import Rate, format_rate

MANY = 16  # addresses
EACH: Rate = 200_000  # bit/s, if ten of them are there
SMALL = 0.1  # of the line


def find(checked: Checked) -> Iterator[Told]:
    """Each limiter for a subnet or a network together."""
    for limiter, caps in capping(checked):
        if limiter.per.whom != "together" or limiter.local is None or limiter.services or limiter.remote:
            continue
        hosts = sum(int.from_bytes(last) - int.from_bytes(first) + 1 for first, last in limiter.local.addresses)
        for way, rate in caps.items():
            if hosts >= MANY and rate < 10 * EACH and rate < SMALL * widest_line(checked.plan, limiter, way):
                message = (
                    f"{format_rate(rate)} {way} is for all hosts together: with ten hosts, "
                    f"{format_rate(rate / 10)} each"
                )
                yield Told(
                    ("limiters", limiter.name, way), message, "write `per: host` if each host should get this rate"
                )
                break


KIND = Kind(
    "total-cap-small",
    "warning",
    find,
    story="""\
A limiter without `per` caps all its hosts together. One guest's download then leaves nothing for the others. With
`per: host`, each has the rate.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 1 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: guests, per: host, down: 1 Mbit/s}
""",
)

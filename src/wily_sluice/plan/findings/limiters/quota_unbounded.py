"""A quota after which the cap still lets more than the quota through."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.units import format_rate_both, format_size

PERIOD_SECONDS = {"day": 86_400, "week": 7 * 86_400, "month": 30 * 86_400}


def find(checked: Checked) -> Iterator[Told]:
    """Each such limiter."""
    for limiter, caps in capping(checked):
        if limiter.quota is None or limiter.per.whom == "conversation":
            continue
        fastest = max(caps.values())
        whole = fastest * PERIOD_SECONDS[limiter.quota.period] // 8
        if whole > limiter.quota.size:
            message = (
                f"{format_rate_both(fastest)} afterwards caps the rate, not the volume: it allows "
                f"{format_size(fastest * 3600 / 8)} an hour, {format_size(whole)} in a {limiter.quota.period}"
            )
            yield Told(("limiters", limiter.name, "quota"), message, "lower the rate if the volume matters")


KIND = Kind(
    "quota-unbounded",
    "warning",
    find,
    story="""\
A rate is not a volume. After the quota, the cap still lets its rate through around the clock, and over a month that
may be many times the quota.
""",
    has="""\
limiters:
  visitors: {local: guests, per: host, down: 5 Mbit/s, quota: 40 GB per month}
""",
    lacks="""\
limiters:
  visitors: {local: guests, per: host, down: 100 kbit/s, quota: 40 GB per month}
""",
)

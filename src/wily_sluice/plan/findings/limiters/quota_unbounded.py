"""A quota after which the cap still lets more than the quota through."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.plan.model import Limiter
from wily_sluice.units import DIRECTIONS, format_rate_both, format_size

PERIOD_SECONDS = {"day": 86_400, "week": 7 * 86_400, "month": 30 * 86_400}


def find(checked: Checked) -> Iterator[Told]:
    """Each such limiter, unless a later stage for the same hosts keeps to the quota."""
    for limiter, caps in capping(checked):
        if limiter.quota is None or limiter.per.whom == "conversation":
            continue
        fastest, whole = max(caps.values()), _volume(limiter)
        if whole > limiter.quota.size and not any(_goes_on(limiter, other) for other in checked.plan.limiters):
            message = (
                f"{format_rate_both(fastest)} afterwards caps the rate, not the volume: it allows "
                f"{format_size(fastest * 3600 / 8)} an hour, {format_size(whole)} in a {limiter.quota.period}"
            )
            yield Told(("limiters", limiter.name, "quota"), message, "lower the rate if the volume matters")


def _volume(limiter: Limiter) -> int:
    """The volume that a limiter with a quota passes in a period, in bytes."""
    rates = [rate for way in DIRECTIONS if (rate := limiter.rate(way)) is not None]
    period = PERIOD_SECONDS[limiter.quota.period] if limiter.quota is not None else 0
    return max(rates, default=0) * period // 8


def _goes_on(limiter: Limiter, other: Limiter) -> bool:
    """Whether another limiter is the same one's later stage, which keeps to the quota."""
    same = (limiter.terms, limiter.uplink, limiter.per, limiter.quota, limiter.when)
    return (
        other is not limiter
        and other.quota is not None
        and (other.terms, other.uplink, other.per, other.quota, other.when) == same
        and other.quota_from >= limiter.quota_from
        and 0 < _volume(other) <= other.quota.size
    )


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

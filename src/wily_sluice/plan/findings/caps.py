"""Findings about the size of a limiter's rate, and about quotas."""

from collections.abc import Iterator

from wily_sluice.engine.packet import LONGEST_FRAME
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.findings.limiters import capping, caps_of, widest_line
from wily_sluice.plan.model import Limiter
from wily_sluice.units import (
    MILLISECOND,
    Rate,
    format_rate,
    format_rate_both,
    format_share,
    format_size,
    format_time,
    transmission_time,
)

MANY = 16  # addresses
EACH: Rate = 200_000  # bit/s, if ten of them are there
SMALL = 0.1  # of the line


@kind(
    "total-cap-small",
    "warning",
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
def total_cap_small(checked: Checked) -> Iterator[Told]:
    """A cap for many hosts together that is so small that a cap for each was likely meant."""
    for limiter, caps in capping(checked):
        if limiter.per.whom != "together" or limiter.hosts is None or limiter.services or limiter.remote:
            continue
        hosts = sum(int.from_bytes(last) - int.from_bytes(first) + 1 for first, last in limiter.hosts.addresses)
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


FEW = 3  # hosts


@kind(
    "caps-overbook",
    "warning",
    story="""\
A cap for each host protects the uplink only if few hosts are busy at once. When two or three hosts fill the uplink,
the others depend on the queues alone.
""",
    has="""\
limiters:
  visitors: {local: guests, per: host, down: 20 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: guests, per: host, down: 10 Mbit/s}
""",
)
def caps_overbook(checked: Checked) -> Iterator[Told]:
    """A cap for each host that lets two or three hosts fill the uplink."""
    for limiter, caps in capping(checked):
        if limiter.per.whom not in ("host", "address") or limiter.threshold is not None or limiter.quota is not None:
            continue
        addresses = limiter.hosts.addresses if limiter.hosts is not None else checked.hosts
        if sum(int.from_bytes(last) - int.from_bytes(first) + 1 for first, last in addresses) <= FEW:
            continue
        for uplink in checked.plan.uplinks:
            for way, rate in caps.items() if limiter.uplink in (None, uplink.name) else ():
                filling = -(-uplink.usable(way) // rate)
                if 1 < filling <= FEW and limiter.uplink is None and uplink is not checked.plan.uplinks[0]:
                    continue  # a smaller line, for when the first is away
                if 1 < filling <= FEW:
                    message = f"{filling} hosts at {format_rate(rate)} fill {uplink.name} {way}"
                    remedy = "lower it, add `engage: above 80%`, or a second limiter for all hosts together"
                    yield Told(("limiters", limiter.name, way), message, remedy)


LONG = 500 * MILLISECOND


@kind(
    "rate-blocks",
    "warning",
    story="""\
A rate near zero does not block a host: its programs keep trying, and the user sees a broken connection. To keep
hosts out, reject their packets in the firewall, so that programs fail at once.
""",
    has="""\
limiters:
  tablet: {local: 192.0.2.9, down: 8 kbit/s}
""",
    lacks="""\
limiters:
  tablet: {local: 192.0.2.9, down: 64 kbit/s}
""",
)
def rate_blocks(checked: Checked) -> Iterator[Told]:
    """A rate so low that one packet takes half a second or more."""
    for limiter, caps in capping(checked):
        for way, rate in caps.items():
            wait = transmission_time(LONGEST_FRAME, rate)
            if wait >= LONG:
                message = (
                    f"at {format_rate(rate)}, one full packet takes {format_time(wait)}: nothing works at that rate"
                )
                yield Told(("limiters", limiter.name, way), message, "to block hosts, use the firewall")


@kind(
    "engage-idle",
    "note",
    story="""\
This limiter leaves its hosts the idle uplink, as intended. A speed test without other traffic shows the full rate,
which can look as if the limiter did not work.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 20 Mbit/s, engage: above 80%}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 20 Mbit/s}
""",
)
def engage_idle(checked: Checked) -> Iterator[Told]:
    """A limiter that a test on an idle line does not show."""
    for limiter, caps in capping(checked):
        if limiter.threshold is not None and limiter.enabled:
            rates = " and ".join(f"{format_rate(rate)} {way}" for way, rate in caps.items())
            message = (
                f"holds only while others use the line above {format_share(limiter.threshold)}: a test on an idle line "
                f"shows more than {rates}"
            )
            yield Told(("limiters", limiter.name, "engage"), message, "to test it, fill the line from another host")


@kind(
    "quota-of-conversation",
    "error",
    story="""\
A conversation lasts seconds or minutes. A quota for each conversation in a month is never reached.
""",
    has="""\
limiters:
  visitors: {local: guests, per: conversation, down: 10 kbit/s, quota: 4 GB per day}
""",
    lacks="""\
limiters:
  visitors: {local: guests, per: host, down: 64 kbit/s, quota: 4 GB per day}
""",
)
def quota_of_conversation(checked: Checked) -> Iterator[Told]:
    """A quota for each conversation, which ends long before the period."""
    for limiter in checked.plan.limiters:
        if limiter.quota is not None and limiter.per.whom == "conversation":
            message = (
                f"a conversation is over long before the {limiter.quota.period}, so a quota for each has no effect"
            )
            remedy = "write `per: host`, `per: subnet/28`, or none"
            yield Told(("limiters", limiter.name, "quota"), message, remedy)


PERIOD_SECONDS = {"day": 86_400, "week": 7 * 86_400, "month": 30 * 86_400}


def _volume(limiter: Limiter) -> int:
    """The volume that a limiter with a quota passes in a period, in bytes, both directions together."""
    period = PERIOD_SECONDS[limiter.quota.period] if limiter.quota is not None else 0
    return sum(caps_of(limiter).values()) * period // 8


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


@kind(
    "quota-unbounded",
    "warning",
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
def quota_unbounded(checked: Checked) -> Iterator[Told]:
    """A quota after which the cap still lets more than the quota through."""
    for limiter, caps in capping(checked):
        if limiter.quota is None or limiter.per.whom == "conversation":
            continue
        fastest, whole = sum(caps.values()), _volume(limiter)
        if whole > limiter.quota.size and not any(_goes_on(limiter, other) for other in checked.plan.limiters):
            message = (
                f"{format_rate_both(fastest)} afterwards caps the rate, not the volume: it allows "
                f"{format_size(fastest * 3600 / 8)} an hour, {format_size(whole)} in a {limiter.quota.period}"
            )
            yield Told(("limiters", limiter.name, "quota"), message, "lower the rate if the volume matters")

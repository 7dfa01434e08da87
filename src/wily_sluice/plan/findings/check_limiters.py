"""What is wrong, or doubtful, in a plan's limiters: those that cap nothing or nobody, or that another makes idle."""

from collections.abc import Iterator, Mapping
from itertools import pairwise

from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.plan.asking import Party
from wily_sluice.plan.file.addresses import address_set
from wily_sluice.plan.file.document import Document, Reading
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.model import Limiter, Plan, policing_burst
from wily_sluice.units import (
    DIRECTIONS,
    HIGHEST_RATE,
    SECOND,
    Direction,
    Nanoseconds,
    Rate,
    Size,
    format_rate_both,
    format_share,
    format_size,
    format_time,
)

WITH_PORTS = {6, 17, 33, 132, 136}
PERIOD_SECONDS = {"day": 86_400, "week": 7 * 86_400, "month": 30 * 86_400}

# A burst, over what the rate is in a round trip; and the part of the rate that one connection of TCP then comes to.
POLICED = ((0.0, 0.02), (0.1, 0.16), (0.25, 0.39), (0.5, 0.75), (1.0, 0.92), (2.0, 0.98), (4.0, 1.0))


def check_limiters(plan: Plan, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    """All findings about limiters."""
    for limiter in plan.limiters:
        yield from _one(plan, limiter, reading)
    for place, limiter in enumerate(plan.limiters):
        for other in plan.limiters[:place]:
            yield from _two(limiter, other, reading.document)


def outside(plan: Plan, reading: Reading[PlanEntry], location: Location, party: Party) -> Iterator[Finding]:
    """Whether a local party is in no network of the plan."""
    networks_are_whole = not any(cut[:1] == ("networks",) for cut in reading.cut)
    if networks_are_whole and party.addresses and not party.members.hardware and not party.addresses & plan.hosts:
        message = f"{party.addresses} is in no network of the plan, so no host of yours is meant"
        yield reading.document.warning(location, message, "name one of: " + ", ".join(n.name for n in plan.networks))


MAPPED = address_set("::ffff:0:0/96")  # RFC 4291 §2.5.5.2


def wrong_remote(plan: Plan, document: Document, location: Location, party: Party | None) -> Iterator[Finding]:
    """A remote that no packet can have, or whose packets are not shaped."""
    if party is None:
        return
    if own := party.addresses & plan.hosts:
        message = f"{own} are your own hosts: packets between your own hosts are not shaped"
        yield document.warning(location, message, "write `local:`, or name the far side")
    if mapped := party.addresses & MAPPED:
        message = f"{mapped} is mapped from IPv4, which no packet carries"
        yield document.warning(location, message, "write the IPv4 address")


def of_one_version(plan: Plan, party: Party) -> str | None:
    """The network of hosts that are named by their IPv4 addresses alone, where it has IPv6 as well."""
    if party.members.hardware or not party.addresses or any(len(first) == 16 for first, _ in party.addresses):
        return None
    for network in plan.networks:
        if network.addresses & party.addresses and any(len(first) == 16 for first, _ in network.addresses):
            return network.name
    return None


def _one(plan: Plan, limiter: Limiter, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    document, here = reading.document, ("limiters", limiter.name)
    rates = {way: rate for way in DIRECTIONS if (rate := limiter.rate(way)) is not None}
    if not rates:
        if not any(reading.was_cut(*here, key) for key in ("up", "down")):
            yield document.error(here, "caps neither up nor down", "add `down: 6 Mbit/s`, `up: 1 Mbit/s` or both")
        return
    if limiter.local is not None:
        yield from outside(plan, reading, (*here, "local"), limiter.local)
        if not limiter.local.members and not reading.cut:
            yield document.warning((*here, "local"), "means nobody, so this limiter never applies", "name some hosts")
        network = of_one_version(plan, limiter.local) if limiter.remote is None else None
        if network is not None:
            message = f"caps IPv4 alone, and {network} has IPv6: what these hosts do over it is not capped"
            remedy = "add their IPv6 addresses, or name them by hardware address"
            yield document.warning((*here, "local"), message, remedy)
    yield from wrong_remote(plan, document, (*here, "remote"), limiter.remote)
    if limiter.ports and limiter.protocols and not set(limiter.protocols) & WITH_PORTS:
        yield document.error((*here, "port"), "this protocol has no ports", "take “port” or “protocol” out")
    peaked = [way for way in DIRECTIONS if limiter.peak.of(way) is not None]
    for way, rate in rates.items():
        lines = [u for u in plan.uplinks if limiter.uplink in (None, u.name)]
        widest = max((uplink.usable(way) for uplink in lines), default=HIGHEST_RATE)
        if rate >= widest:
            message = f"{format_rate_both(rate)} is no cap: no uplink has more than {format_rate_both(widest)}"
            yield document.warning((*here, way), message, f"lower it, or take “{way}” out")
        elif limiter.threshold is not None and rate >= limiter.threshold * widest:
            part = format_share(limiter.threshold)
            message = f"has no effect {way}: the cap of {format_rate_both(rate)} is more than {part} of the usable rate"
            yield document.warning((*here, "engage"), message, "lower the cap, or take “engage” out")
        peak = limiter.peak.of(way)
        if peak is not None and peak < rate:
            message = f"the peak of {format_rate_both(peak)} {way} is below the rate of {format_rate_both(rate)}"
            yield document.error((*here, "peak"), message, "a peak is at least the rate")
    if limiter.excess == "wait" and (limiter.excess_burst is not None or peaked):
        key = "peak" if peaked else "excess-burst"
        remedy = "write `excess: drop`, or take it out"
        yield document.error((*here, key), "what is over waits, so there is nothing in between", remedy)
    yield from _burst(limiter, document, rates)
    yield from _quota(limiter, document, rates)


def _burst(limiter: Limiter, document: Document, rates: Mapping[Direction, Rate]) -> Iterator[Finding]:
    here = ("limiters", limiter.name, "burst")
    if limiter.burst is None or limiter.excess == "wait":
        return
    for way, rate in rates.items():
        burst, wanted = limiter.burst_of(rate), policing_burst(rate, limiter.round_trip)
        if burst < LONGEST_FRAME and limiter.excess_burst is None:
            message = f"{format_size(burst)} {way} is less than a full frame of {LONGEST_FRAME} B, which never passes"
            yield document.error(here, message, f"at least {LONGEST_FRAME} B; {format_size(wanted)} suits TCP")
            return
        if limiter.excess == "drop" and limiter.peak.of(way) is None and burst < wanted // 2:
            part = policed_part(burst, rate, limiter.round_trip)
            message = (
                f"with {format_size(burst)} at once, a connection of TCP comes to about {format_share(round(part, 2))} "
                f"of {format_rate_both(rate)} {way}, at a round trip of {format_time(limiter.round_trip)}"
            )
            yield document.warning(here, message, f"take it out ({format_size(wanted)} is worked out), or let it wait")
            return


def _quota(limiter: Limiter, document: Document, rates: Mapping[Direction, Rate]) -> Iterator[Finding]:
    if limiter.quota is not None and limiter.per.whom == "conversation":
        message = f"a conversation ends long before a {limiter.quota.period} is over, so its use says nothing"
        yield document.error(
            ("limiters", limiter.name, "quota"), message, "write `per: host`, `per: subnet/28`, or none"
        )
        return
    if limiter.quota is None:
        return
    fastest = max(rates.values())
    whole = fastest * PERIOD_SECONDS[limiter.quota.period] // 8
    if whole > limiter.quota.size:
        message = (
            f"{format_rate_both(fastest)} afterwards is a cap of the rate and not of the volume: it is "
            f"{format_size(fastest * 3600 / 8)} an hour, {format_size(whole)} in a {limiter.quota.period}"
        )
        yield document.warning(("limiters", limiter.name, "quota"), message, "lower the rate, if the volume matters")


def policed_part(burst: Size, rate: Rate, round_trip: Nanoseconds) -> float:
    """What part of a policed rate one connection of TCP comes to: see docs/performance.md for how it was measured."""
    ratio = burst * 8 * SECOND / (rate * round_trip)
    for (low, less), (high, more) in pairwise(POLICED):
        if ratio <= high:
            return less + (more - less) * (ratio - low) / (high - low)
    return POLICED[-1][1]


def _covers(wide: Limiter, narrow: Limiter) -> bool:
    """Whether all whom `narrow` names are named by `wide`, whenever it holds."""
    for party, inner in ((wide.local, narrow.local), (wide.remote, narrow.remote)):
        if party is not None and (
            inner is None
            or inner.addresses - party.addresses
            or inner.members.hardware - party.members.hardware
            or inner.members.names - party.members.names
        ):
            return False
    if wide.protocols and not (narrow.protocols and set(narrow.protocols) <= set(wide.protocols)):
        return False
    if wide.services is not None and wide.services != narrow.services:
        return False
    if wide.ports and wide.ports != narrow.ports:
        return False
    always = wide.when in (None, narrow.when) and wide.threshold in (None, narrow.threshold) and wide.quota is None
    return always and wide.enabled and wide.uplink in (None, narrow.uplink)


def _two(one: Limiter, other: Limiter, document: Document) -> Iterator[Finding]:
    """Whether one of two limiters can never decide, since the other is tighter for all whom it names."""
    for loose, tight in ((one, other), (other, one)):
        ways = [way for way in DIRECTIONS if loose.rate(way) is not None]
        if not ways or not loose.enabled or "mark" in (loose.excess, tight.excess) or not _covers(tight, loose):
            continue
        if tight.per.whom != "together" and tight.per != loose.per:
            continue
        if all((rate := tight.rate(way)) is not None and rate <= (loose.rate(way) or 0) for way in ways):
            whom = "together" if tight.per.whom == "together" else f"for each {tight.per.whom}"
            message = f"never decides: {tight.name} caps all whom it names at no more, {whom}"
            yield document.warning(("limiters", loose.name), message, f"lower it, or take it or {tight.name} out")
            return

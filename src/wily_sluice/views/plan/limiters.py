"""Limiters in sentences and as data: for one host, and for all together."""

from collections import Counter
from typing import Any

from wily_sluice.engine.limit.limiter import Per
from wily_sluice.plan.file.traffic_words import dscp_text, ports_text, protocol_text
from wily_sluice.plan.model import Limiter, Plan, Uplink
from wily_sluice.plan.schedules.schedule import DAYS
from wily_sluice.units import (
    DIRECTIONS,
    Direction,
    Rate,
    format_rate,
    format_rate_both,
    format_share,
    format_size,
    format_time,
)
from wily_sluice.views.text.sentences import terms_data, terms_text


def _subject(per: Per) -> str:
    match per.whom:
        case "host":
            return "Each host"
        case "address":
            return "Each address"
        case "conversation":
            return "Each conversation"
        case "network":
            return "Each network"
        case "subnet":
            return f"Each subnet (/{per.v4} of IPv4, /{per.v6} of IPv6)"
        case _:
            return "All traffic"


def _whose(limiter: Limiter) -> str:
    text = terms_text(limiter.terms.without("port"))
    text = f" of {text.removeprefix(' from ')}" if text.startswith(" from ") else text
    if limiter.protocols:
        text += f" over {protocol_text(limiter.protocols)}"
    if limiter.ports:
        text += f" on port {ports_text(limiter.ports)}"
    return text + (f" on {limiter.uplink}" if limiter.uplink else "")


def limiter_sentences(plan: Plan, limiter: Limiter) -> str:
    """The hosts it caps, the rate, the schedule, the excess, and the total of all hosts."""
    rates = [f"{format_rate_both(rate)} {way}" for way in DIRECTIONS if (rate := limiter.rate(way)) is not None]
    if not rates and limiter.quota is not None:
        text = f"{_subject(limiter.per)}{_whose(limiter)} is counted: {_much(limiter)}. Nothing is capped."
        return text if limiter.enabled else f"Switched off: {text[0].lower()}{text[1:]}"
    together = " together" if limiter.per.whom == "together" else ""
    text = f"{_subject(limiter.per)}{_whose(limiter)}{together} can use at most {' and '.join(rates)}"
    if limiter.when:
        text += f" during {limiter.when}"
    text += "."
    if limiter.threshold is not None:
        text += (
            f" While the line is below {format_share(limiter.threshold)} of its usable rate they can have more, "
            "shared equally; when others need the line, they come down to the cap."
        )
    if limiter.quota is not None:
        text += f" This applies after {_much(limiter)}."
    text += f" {_excess(limiter)}"
    if not limiter.enabled:
        return f"Switched off: {text[0].lower()}{text[1:]}"
    return " ".join([text, *_together(plan, limiter)])


def _much(limiter: Limiter) -> str:
    """`80% of 40 GB per month, from day 1, both directions together`."""
    quota = limiter.quota
    assert quota is not None
    begins = {"month": f", from day {limiter.starts}", "week": f", from {DAYS[limiter.starts % 7]}", "day": ""}
    part = "" if limiter.quota_from == 1 else f"{format_share(limiter.quota_from)} of "
    return f"{part}{format_size(quota.size)} per {quota.period}{begins[quota.period]}, both directions together"


def _excess(limiter: Limiter) -> str:
    bursts = {way: limiter.burst_of(rate) for way in DIRECTIONS if (rate := limiter.rate(way)) is not None}
    sizes = " and ".join(f"{format_size(size)} {way}" for way, size in bursts.items())
    if limiter.excess == "wait":
        return f"Excess packets wait; bursts up to {sizes}."
    what = "are dropped" if limiter.excess == "drop" else f"are marked {dscp_text((limiter.dscp,))}"
    text = f"Excess packets {what}; bursts up to {sizes}"
    if limiter.burst is None:
        text += f", for a round trip of {format_time(limiter.round_trip)}"
    peaks = [f"{format_rate(peak)} {way}" for way in DIRECTIONS if (peak := limiter.peak.of(way)) is not None]
    return text + (f". They still pass up to the peak of {' and '.join(peaks)}." if peaks else ".")


def hosts_named(limiter: Limiter) -> int | None:
    """The number of hosts, if they are named individually; None for whole networks or all hosts."""
    local = limiter.hosts
    if local is None or local.members.names:
        return None
    hosts = Counter(len(first) for first, last in local.addresses if first == last)
    if sum(hosts.values()) < len(list(local.addresses)):
        return None
    return max((*hosts.values(), len(local.members.hardware)), default=0) or None


def hosts_that_fill(uplink: Uplink, direction: Direction, rate: Rate) -> int:
    """How many at this rate are as much as the line has."""
    return -(-uplink.usable(direction) // rate)


def _together(plan: Plan, limiter: Limiter) -> list[str]:
    """The effect on all hosts together: how many fill a line; or how small their total share is."""
    if limiter.per.whom == "together":
        return []
    whose = {"host": "hosts", "address": "addresses"}.get(limiter.per.whom, f"{limiter.per.whom}s")
    sentences = []
    named = hosts_named(limiter) if limiter.per.whom in ("host", "address") else None
    for uplink in plan.uplinks:
        if limiter.uplink not in (None, uplink.name):
            continue
        if named is not None and all(
            named * rate <= uplink.usable(way) for way in DIRECTIONS if (rate := limiter.rate(way)) is not None
        ):
            both = "It can run" if named == 1 else f"All {named} can run"
            sentences.append(f"{both} at full rate{' together' if named > 1 else ''} on {uplink.name}.")
            continue
        fills = [
            f"{count} {whose} fill {uplink.name} {way}" if count > 1 else f"One alone fills {uplink.name} {way}"
            for way in DIRECTIONS
            if (rate := limiter.rate(way)) is not None and (count := hosts_that_fill(uplink, way, rate))
        ]
        at_once = min(
            (uplink.usable(way) // rate for way in DIRECTIONS if (rate := limiter.rate(way)) is not None), default=0
        )
        sentences.append(
            f"{', '.join(fills)}; {at_once} can run at full rate together." if at_once > 1 else f"{', '.join(fills)}."
        )
    return sentences


def volume_words(rate: Rate) -> str:
    """`22.5 GB an hour`: the volume of a rate."""
    return f"{format_size(rate * 3600 / 8)} an hour"


def limiter_data(plan: Plan, limiter: Limiter) -> dict[str, Any]:
    """A limiter for JSON; rates in bit/s, bursts in bytes, times in ns."""
    ways = [way for way in DIRECTIONS if limiter.rate(way) is not None]
    quota = limiter.quota
    return {
        "local": list(limiter.hosts.words) if limiter.hosts else None,
        "remote": list(limiter.remote.words) if limiter.remote else None,
        "terms": terms_data(limiter.terms),
        "uplink": limiter.uplink,
        "per": limiter.per.whom,
        **{way: limiter.rate(way) for way in DIRECTIONS},
        "burst": {way: limiter.burst_of(limiter.rate(way) or 1) for way in ways},
        "excess": limiter.excess,
        "dscp": limiter.dscp if limiter.excess == "mark" else None,
        "peak": {way: limiter.peak.of(way) for way in ways},
        "engage": limiter.threshold,
        "when": limiter.when,
        "quota": None if quota is None else {"size": quota.size, "per": quota.period, "from": limiter.quota_from},
        "enabled": limiter.enabled,
        "fills": {
            uplink.name: {way: hosts_that_fill(uplink, way, limiter.rate(way) or 1) for way in ways}
            for uplink in plan.uplinks
            if limiter.per.whom != "together" and limiter.uplink in (None, uplink.name)
        },
        "sentence": limiter_sentences(plan, limiter),
    }

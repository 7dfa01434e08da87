"""Findings about limiters without effect."""

from collections.abc import Iterator
from itertools import pairwise

from wily_sluice.engine.packet import LONGEST_FRAME
from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.model import Limiter, Plan, Uplink, policing_burst
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


def caps_of(limiter: Limiter) -> dict[Direction, Rate]:
    """The directions that it caps, with the rate of each."""
    return {way: rate for way in DIRECTIONS if (rate := limiter.rate(way)) is not None}


def capping(checked: Checked, off: bool = False) -> Iterator[tuple[Limiter, dict[Direction, Rate]]]:
    """The limiters that cap a direction, with their rates; those that are switched off as well if they are wanted."""
    limiters = (limiter for limiter in checked.plan.limiters if limiter.enabled or off)
    return ((limiter, caps) for limiter in limiters if (caps := caps_of(limiter)))


@kind(
    "caps-nothing",
    "error",
    story="""\
A limiter caps a rate, up or down, or counts towards a quota. This one names hosts, but neither a rate nor a quota.
""",
    has="""\
limiters:
  visitors: {local: guests}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s}
""",
)
def caps_nothing(checked: Checked) -> Iterator[Told]:
    """A limiter that neither caps a direction nor counts towards a quota."""
    for limiter in checked.plan.limiters:
        here = ("limiters", limiter.name)
        if (
            not caps_of(limiter)
            and limiter.quota is None
            and not any(checked.reading.was_cut(*here, way) for way in DIRECTIONS)
        ):
            remedy = "add `down: 6 Mbit/s`, `up: 1 Mbit/s` or both, or a `quota` to count"
            yield Told(here, "caps neither direction and counts nothing", remedy)


@kind(
    "caps-nobody",
    "warning",
    whole=True,
    story="""\
The group excludes all of its members, so the limiter never applies.
""",
    has="""\
groups:
  visitors: {members: [guests], except: [guests]}
limiters:
  visitor: {local: visitors, down: 5 Mbit/s}
""",
    lacks="""\
groups:
  visitors: {members: [guests], except: [198.51.100.9]}
limiters:
  visitor: {local: visitors, down: 5 Mbit/s}
""",
)
def caps_nobody(checked: Checked) -> Iterator[Told]:
    """A limiter whose hosts are none."""
    for limiter, _ in capping(checked):
        if limiter.hosts is not None and not limiter.hosts.members:
            location = ("limiters", limiter.name, "local")
            yield Told(location, "matches no host, so this limiter never applies", "name some hosts")


def lines_of(plan: Plan, limiter: Limiter) -> list[Uplink]:
    """The uplinks that a limiter is for."""
    return [uplink for uplink in plan.uplinks if limiter.uplink in (None, uplink.name)]


def widest_line(plan: Plan, limiter: Limiter, way: Direction) -> Rate:
    """The usable rate of the widest uplink that a limiter is for."""
    return max((uplink.usable(way) for uplink in lines_of(plan, limiter)), default=HIGHEST_RATE)


def all_lines(plan: Plan, limiter: Limiter, way: Direction) -> Rate:
    """The usable rate of all uplinks that a limiter is for: it counts over them together."""
    return sum(uplink.usable(way) for uplink in lines_of(plan, limiter)) or HIGHEST_RATE


@kind(
    "cap-without-effect",
    "warning",
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
def cap_without_effect(checked: Checked) -> Iterator[Told]:
    """A cap that is more than its uplinks have together."""
    for limiter, caps in capping(checked):
        most = {way: all_lines(checked.plan, limiter, way) for way in caps}
        several = len(lines_of(checked.plan, limiter)) > 1
        for way, rate in caps.items():
            if rate >= most[way]:
                lines = "its uplinks together have no" if several else "no uplink has"
                message = f"{format_rate_both(rate)} has no effect: {lines} more than {format_rate_both(most[way])}"
                location: Location = ("limiters", limiter.name, way)
                idle = limiter.quota is None and all(cap >= most[way] for way, cap in caps.items())
                fix = (Remove(location[:2] if idle else location),)
                yield Told(location, message, f"lower it or remove “{way}”", fix)


@kind(
    "engage-without-effect",
    "warning",
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
  visitors: {local: guests, down: 40 Mbit/s}
""",
)
def engage_without_effect(checked: Checked) -> Iterator[Told]:
    """A cap for a busy line alone that is more than the line has when it is that busy."""
    for limiter, caps in capping(checked):
        one = len(lines_of(checked.plan, limiter)) == 1  # over several, one may be busy while another is not
        for way, rate in caps.items() if limiter.threshold is not None and one else ():
            widest = widest_line(checked.plan, limiter, way)
            if (limiter.threshold or 0) * widest <= rate < widest:
                part = format_share(limiter.threshold or 0)
                message = f"has no effect {way}: the cap of {format_rate_both(rate)} is above {part} of the usable rate"
                remedy = "lower the cap or remove “engage”"
                yield Told(("limiters", limiter.name, "engage"), message, remedy)


@kind(
    "peak-below-rate",
    "error",
    story="""\
The peak is the rate of a burst, so it must be higher than the limiter's own rate.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, peak: 4 Mbit/s, excess: drop}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, peak: 8 Mbit/s, excess: drop}
""",
)
def peak_below_rate(checked: Checked) -> Iterator[Told]:
    """A peak that is less than the rate."""
    for limiter, caps in capping(checked, off=True):
        for way, rate in caps.items():
            peak = limiter.peak.of(way)
            if peak is not None and peak < rate:
                message = f"the peak of {format_rate_both(peak)} {way} is below the rate of {format_rate_both(rate)}"
                yield Told(("limiters", limiter.name, "peak"), message, "a peak is at least the rate")


@kind(
    "second-burst-unused",
    "error",
    story="""\
A peak and an excess burst decide between passing, marking and dropping. If the excess waits, there is nothing to
decide.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, peak: 8 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, peak: 8 Mbit/s, excess: drop}
""",
)
def second_burst_unused(checked: Checked) -> Iterator[Told]:
    """A peak or an excess burst of a limiter whose excess is queued: nothing lies between passing and waiting."""
    for limiter, _ in capping(checked, off=True):
        peaked = any(limiter.peak.of(way) is not None for way in DIRECTIONS)
        if limiter.excess == "wait" and (limiter.excess_burst is not None or peaked):
            location = ("limiters", limiter.name, "peak" if peaked else "excess-burst")
            remedy = "write `excess: drop`, or remove it"
            yield Told(location, "has no effect with excess: wait", remedy, (Remove(location),))


def polices(limiter: Limiter) -> bool:
    """Whether the limiter sets a burst and its excess does not wait."""
    return limiter.burst is not None and limiter.excess != "wait"


def too_small(limiter: Limiter, rate: Rate) -> bool:
    """Whether a full frame never passes at this rate."""
    return limiter.burst_of(rate) < LONGEST_FRAME and limiter.excess_burst is None


@kind(
    "burst-below-packet",
    "error",
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
def burst_below_packet(checked: Checked) -> Iterator[Told]:
    """A burst that is smaller than a full frame, which then never passes."""
    for limiter, caps in capping(checked, off=True):
        for way, rate in caps.items() if polices(limiter) else ():
            if too_small(limiter, rate):
                message = (
                    f"{format_size(limiter.burst_of(rate))} {way} is less than a full frame of {LONGEST_FRAME} B, "
                    "which never passes"
                )
                wanted = format_size(policing_burst(rate, limiter.round_trip))
                location = ("limiters", limiter.name, "burst")
                yield Told(location, message, f"at least {LONGEST_FRAME} B; {wanted} suits TCP", (Remove(location),))


# A burst, over what the rate is in a round trip; and the part of the rate that one connection of TCP then comes to.
POLICED = ((0.0, 0.02), (0.1, 0.16), (0.25, 0.39), (0.5, 0.75), (1.0, 0.92), (2.0, 0.98), (4.0, 1.0))


def policed_part(burst: Size, rate: Rate, round_trip: Nanoseconds) -> float:
    """The fraction of a policed rate that one TCP connection reaches: docs/performance.md has the measurement."""
    ratio = burst * 8 * SECOND / (rate * round_trip)
    for (low, less), (high, more) in pairwise(POLICED):
        if ratio <= high:
            return less + (more - less) * (ratio - low) / (high - low)
    return POLICED[-1][1]


@kind(
    "burst-below-window",
    "warning",
    once=True,
    story="""\
TCP sends a window at a time. If the excess is dropped and the burst is smaller than the window, TCP takes each drop
for congestion, halves its rate, and never reaches the cap. Let the excess wait, or allow a burst of two round trips.
""",
    has="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, excess: drop, burst: 5 kB}
""",
    lacks="""\
limiters:
  visitors: {local: guests, down: 5 Mbit/s, excess: drop, burst: 65 kB}
""",
)
def burst_below_window(checked: Checked) -> Iterator[Told]:
    """A burst so small that a connection of TCP does not reach the cap."""
    for limiter, caps in capping(checked):
        if not polices(limiter) or any(too_small(limiter, rate) for rate in caps.values()):
            continue
        for way, rate in caps.items() if limiter.excess == "drop" else ():
            burst, wanted = limiter.burst_of(rate), policing_burst(rate, limiter.round_trip)
            if limiter.peak.of(way) is None and burst < wanted // 2:
                part = policed_part(burst, rate, limiter.round_trip)
                message = (
                    f"with {format_size(burst)} of burst, one TCP connection reaches about "
                    f"{format_share(round(part, 2))} of {format_rate_both(rate)} {way}, at a round trip of "
                    f"{format_time(limiter.round_trip)}"
                )
                remedy = f"remove it (the default is {format_size(wanted)}), or write `excess: wait`"
                location = ("limiters", limiter.name, "burst")
                yield Told(location, message, remedy, (Remove(location),))


def _covers(plan: Plan, wide: Limiter, narrow: Limiter) -> bool:
    """Whether everything that `narrow` matches is matched by `wide`, whenever it applies."""
    local = wide.hosts
    everybody = local is not None and not any(network.addresses - local.addresses for network in plan.networks)
    for party, inner in ((wide.hosts, narrow.hosts), (wide.remote, narrow.remote)):
        if party is not None and (
            inner is None
            or inner.addresses - party.addresses
            or (inner.members.hardware - party.members.hardware and not (party is wide.hosts and everybody))
            or inner.members.names - party.members.names
        ):
            return False
    if wide.protocols and not (narrow.protocols and set(narrow.protocols) <= set(wide.protocols)):
        return False
    if wide.services is not None and wide.services != narrow.services:
        return False
    if (wide.ports and wide.ports != narrow.ports) or (wide.transports and wide.transports != narrow.transports):
        return False
    always = wide.when in (None, narrow.when) and wide.threshold in (None, narrow.threshold) and wide.quota is None
    return always and wide.enabled and wide.uplink in (None, narrow.uplink)


def _within(tight: Limiter, loose: Limiter, way: Direction) -> bool:
    """Whether one never lets more through at once than another: by its burst, and by its peak."""
    rates = (tight.rate(way), loose.rate(way))
    if rates[0] is None or rates[1] is None or tight.burst_of(rates[0]) > loose.burst_of(rates[1]):
        return False
    peaks = (tight.peak.of(way), loose.peak.of(way))
    return tight.excess_burst is None and (peaks[0] == peaks[1] or peaks == (None, loose.peak.of(way)))


def _two(plan: Plan, limiter: Limiter, other: Limiter) -> Iterator[Told]:
    for loose, tight in ((limiter, other), (other, limiter)):
        caps = caps_of(loose)
        if not caps or not loose.enabled or "mark" in (loose.excess, tight.excess) or not _covers(plan, tight, loose):
            continue
        if loose.quota is not None or not all(_within(tight, loose, way) for way in caps):
            continue
        alone = tight.per.whom in ("host", "address") and loose.hosts is not None and loose.hosts.is_one_host
        if tight.per.whom != "together" and tight.per != loose.per and not alone:
            continue
        if all((tight.rate(way) or cap + 1) <= cap for way, cap in caps.items()):
            whom = "together" if tight.per.whom == "together" else f"for each {tight.per.whom}"
            message = f"has no effect: {tight.name} already limits the same hosts to this rate or less, {whom}"
            location = ("limiters", loose.name)
            yield Told(location, message, f"lower it, or remove it or {tight.name}", (Remove(location),))
            return


@kind(
    "limiter-redundant",
    "warning",
    story="""\
All limiters that match apply, so the tighter one decides. This one never does.
""",
    has="""\
limiters:
  visitors: {local: guests, per: host, down: 2 Mbit/s}
  slower: {local: 198.51.100.9, per: host, down: 3 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: guests, per: host, down: 2 Mbit/s}
  slower: {local: 198.51.100.9, per: host, down: 1 Mbit/s}
""",
)
def limiter_redundant(checked: Checked) -> Iterator[Told]:
    """A limiter that has no effect, since another is tighter for the same hosts."""
    for index, limiter in enumerate(checked.plan.limiters):
        for other in checked.plan.limiters[:index]:
            yield from _two(checked.plan, limiter, other)

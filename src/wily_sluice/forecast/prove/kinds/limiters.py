"""Each limiter holds one host to its rate, and two hosts to one or two of it."""

from collections.abc import Iterator

from wily_sluice.forecast.prove.bench import (
    Bench,
    leaf_of,
    with_limiter,
    without_limiters,
)
from wily_sluice.forecast.prove.example import Example, examples
from wily_sluice.forecast.prove.flood import Stream
from wily_sluice.forecast.prove.proof import TOLERANCE, UNTRIED, Proof, figure, verdict_of
from wily_sluice.plan.model import Limiter, Uplink
from wily_sluice.units import DIRECTIONS, SECOND, Direction, Rate, format_size

FLOODED = 1.2  # times the line, that a host under a limiter sends
SETTLES = 3 * SECOND  # until a limiter knows how busy the line is


def prove(bench: Bench) -> Iterator[Proof]:
    """Each limiter holds one host to its rate, and two hosts to one or two of it."""
    for limiter in bench.plan.limiters:
        for way in DIRECTIONS:
            rate = limiter.rate(way)
            if rate is None or not limiter.enabled:
                continue
            at = ("limiters", limiter.name, way)
            uplink = next((u for u in bench.plan.uplinks if limiter.uplink in (None, u.name)), None)
            if uplink is None:
                continue
            yield _limited(bench, limiter, uplink, way, rate, at)


def _limited(
    bench: Bench, limiter: Limiter, uplink: Uplink, way: Direction, rate: Rate, at: tuple[str, str, str]
) -> Proof:
    where = f"{uplink.name} {way}"
    plan = with_limiter(bench.plan, limiter)
    shaper = bench.shaper(uplink, way, plan)
    index = next(number for number, one in enumerate(bench.plan.limiters) if one.name == limiter.name)

    def meets(one: Example) -> bool:
        return index in shaper.classifier.limits(one.subject(one.conversation()))

    found = [one for one in examples(plan, limiter.terms) if meets(one) and not one.hardware]
    hosts = list({one.parties.local: one for one in found}.values())[:2]
    many = len(hosts) if limiter.per.whom in ("host", "address") and limiter.threshold is None else 1
    usable = uplink.usable(way)
    many = max(1, min(many, usable // rate))
    wanted = min(rate * many, usable)
    expected = f"{figure(wanted)} for {many} host{'s' * (many > 1)}" if many > 1 else figure(wanted)
    if limiter.quota is not None:
        expected += f" after {format_size(limiter.quota.size * limiter.quota_from)}"
    if not hosts:
        return Proof("limiter", limiter.name, where, at, expected, "–", "not tried", UNTRIED)
    mine = [Stream(one, round(usable * FLOODED)) for one in hosts[:many]]
    beside = [mine]
    if limiter.threshold is not None:  # it holds only while others need the line: those of another leaf
        leaf = leaf_of(bench, plan, uplink, hosts[0])
        others = [one for path, one in bench.leaves(uplink, way).items() if path != leaf and not meets(one)]
        beside = [[*mine, Stream(one, round(usable * FLOODED))] for one in others]
        if not beside:
            return Proof("limiter", limiter.name, where, at, expected, "–", "not tried", "it applies to everybody")
    # Without what makes the promise: the limiter switched off, or its quota not reached.
    bare, free, streams = plan if limiter.quota is not None else without_limiters(bench.plan), 0.0, mine
    least = SETTLES if limiter.threshold is not None else 0
    for streams in beside:  # until there is one beside which they would have more
        free = sum(came.rate for came in bench.flood(uplink, way, streams, bare, least)[:many])
        if free > wanted * (1 + TOLERANCE):
            break
    measured = sum(came.rate for came in bench.flood(uplink, way, streams, plan, least, True)[:many])
    limit = wanted * (1 + TOLERANCE)
    reached = measured >= wanted * (1 - 2 * TOLERANCE) or free < wanted
    verdict, why = verdict_of(measured <= limit and reached, free <= limit)
    return Proof("limiter", limiter.name, where, at, expected, figure(measured), verdict, why)

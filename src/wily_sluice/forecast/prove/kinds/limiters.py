"""Each limiter holds one host to its rate, and two hosts to once or twice that."""

from collections.abc import Iterator
from dataclasses import replace
from typing import NamedTuple

from wily_sluice.forecast.prove.bench import Bench, with_limiter, without_limiters
from wily_sluice.forecast.prove.example import Example, examples, meant
from wily_sluice.forecast.prove.proof import SUPERFLUOUS, TOLERANCE, WITHIN, Judged, Promise, Proof, figure, rate_of
from wily_sluice.forecast.prove.setting import Flood, Part, Stream, Where, World
from wily_sluice.plan.model import Limiter, Plan, Uplink
from wily_sluice.units import DIRECTIONS, SECOND, Direction, Rate, format_size

MOST_ALONE = 3  # hosts that are tried alone with all limiters
FLOODED = 1.2  # times the line, that a host under a limiter sends
SETTLES = 3 * SECOND  # until a limiter knows how busy the line is


def promises(bench: Bench) -> Iterator[Promise]:
    """Each limiter holds one host to its rate, and two hosts to once or twice its rate."""
    for limiter in bench.plan.limiters:
        for way in DIRECTIONS:
            rate = limiter.rate(way)
            uplink = next((u for u in bench.plan.uplinks if limiter.uplink in (None, u.name)), None)
            if rate is not None and limiter.enabled and uplink is not None:
                yield _limited(bench, limiter, uplink, way, rate)


def limited_hosts(bench: Bench, limiter: Limiter, uplink: Uplink) -> list[Example]:
    """Conversations that a limiter matches, each of a different host."""
    index = bench.plan.limiters.index(limiter)
    shaper = meant(bench.plan, uplink.name)

    def meets(one: Example) -> bool:
        return index in shaper.classifier.limits(one.subject(one.conversation()))

    found = [one for one in examples(bench.plan, limiter.terms) if meets(one) and not one.hardware]
    return list({one.parties.local: one for one in found}.values())


class Limiting(NamedTuple):
    """A flood under a limiter. Its first `many` streams are the limiter's hosts: `wanted` bit/s together, at most
    `most`; without the limiter, they reach `free`.
    """

    asked: Flood
    many: int
    wanted: float
    most: float
    free: float


def limiting(bench: Bench, limiter: Limiter, uplink: Uplink, way: Direction) -> Limiting | None:
    """A flood that it should hold; None if no host is found for it, or none that it does not match."""
    rate, usable = limiter.rate(way), uplink.usable(way)
    hosts = limited_hosts(bench, limiter, uplink)[:2]
    if not hosts or rate is None:
        return None
    many = len(hosts) if limiter.per.whom in ("host", "address") and limiter.threshold is None else 1
    many = max(1, min(many, usable // rate))
    wanted = min(rate * many, usable)
    most = wanted * (1 + TOLERANCE)
    mine = tuple(Stream(one, round(usable * FLOODED)) for one in hosts[:many])
    asked = Flood(
        Part("limiter", limiter.name),
        uplink.name,
        way,
        mine,
        SETTLES if limiter.threshold is not None else 0,
        limiter.quota is not None,
        bench.within(limiter.when),
    )
    if limiter.threshold is None:
        return Limiting(asked, many, wanted, most, _free(bench, limiter, asked, many))
    # It holds only while others need the line: conversations of another leaf that fill the rest of the line, and beside
    # which its hosts would get more.
    leaf, best = bench.where(Where(uplink.name, hosts[0])), None
    for other in _others(bench, limiter, uplink, way, leaf):
        beside = replace(asked, streams=(*mine, other))
        found = Limiting(beside, many, wanted, most, _free(bench, limiter, beside, many))
        if found.free > most and rate_of(bench.flood(beside), range(many + 1)) >= usable * (1 - TOLERANCE):
            return found
        best = best if best is not None and (best.free > most or found.free <= most) else found
    return best


def _limited(bench: Bench, limiter: Limiter, uplink: Uplink, way: Direction, rate: Rate) -> Promise:
    proof = Proof(
        "limiter",
        limiter.name,
        f"{uplink.name} {way}",
        ("limiters", limiter.name, way),
        figure(rate),
        tolerance=WITHIN,
        uplink=uplink.name,
    )
    found = limiting(bench, limiter, uplink, way)
    if found is None:
        some = limited_hosts(bench, limiter, uplink)
        return Promise(replace(proof, why="it applies to all hosts") if some else proof)
    expected = f"{figure(found.wanted)} for {found.many} hosts" if found.many > 1 else figure(found.wanted)
    if limiter.quota is not None:
        expected += f" after {format_size(limiter.quota.size * limiter.quota_from)}"

    def judge(world: World) -> Judged:
        got = rate_of(world.flood(found.asked), range(found.many))
        reached = got >= found.wanted * (1 - 2 * TOLERANCE) or found.free < found.wanted
        return Judged(got <= found.most and reached, figure(got), got)

    def control() -> str:
        return SUPERFLUOUS if found.free <= found.most else _held_by_others(bench, limiter, uplink, found)

    return Promise(replace(proof, expected=expected), judge, control)


def _held_by_others(bench: Bench, limiter: Limiter, uplink: Uplink, found: Limiting) -> str:
    """Why its rate is never reached with all limiters of the plan; empty if one of its hosts reaches it.

    Each host is tried alone, on an idle line.
    """
    rate = limiter.rate(found.asked.way)
    hosts = limited_hosts(bench, limiter, uplink)
    shaper = meant(bench.plan, uplink.name)
    if rate is None or limiter.threshold is not None or limiter.quota is not None or limiter.per.whom == "conversation":
        return ""
    most = min(rate, uplink.usable(found.asked.way))
    best, holding = 0.0, set[str]()
    for host in hosts[:MOST_ALONE]:
        others = [bench.plan.limiters[index] for index in shaper.classifier.limits(host.subject(host.conversation()))]
        others = [one for one in others if one.enabled and one is not limiter and one.rate(found.asked.way) is not None]
        if not others:
            return ""
        holding |= {one.name for one in others}
        alone = replace(found.asked, streams=(replace(found.asked.streams[0], example=host),))
        best = max(best, rate_of(bench.flood(alone, bench.plan), range(1)))
        if best >= most * (1 - 2 * TOLERANCE):
            return ""
    if len(hosts) > 1 and limiter.per.whom == "together":
        return ""  # several hosts may reach it
    who = f"{' and '.join(sorted(holding))} hold{'s' * (len(holding) == 1)}"
    return f"{who} its hosts to {figure(best)}, so it is never reached"


def _free(bench: Bench, limiter: Limiter, asked: Flood, many: int) -> float:
    """Their rate without the promise: with the limiter switched off, or its quota not reached."""
    plan: Plan = with_limiter(bench.plan, limiter.name) if limiter.quota else without_limiters(bench.plan)
    return rate_of(bench.flood(replace(asked, spent=False), plan), range(many))


def _others(bench: Bench, limiter: Limiter, uplink: Uplink, way: Direction, leaf: str) -> Iterator[Stream]:
    """Conversations that the limiter does not match, in other leaves than that one."""
    index = bench.plan.limiters.index(limiter)
    shaper = meant(bench.plan, uplink.name)
    seen = {leaf}
    for rule in bench.plan.sorting:
        for one in examples(bench.plan, rule.terms):
            path = bench.where(Where(uplink.name, one))
            limited = index in shaper.classifier.limits(one.subject(one.conversation()))
            if path not in seen and not limited and one.plain:
                seen.add(path)
                yield Stream(one, round(uplink.usable(way) * FLOODED))

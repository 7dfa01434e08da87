"""Each limiter holds one host to its rate, and two hosts to once or twice that."""

from collections.abc import Iterator
from dataclasses import replace
from typing import NamedTuple

from wily_sluice.forecast.prove.bench import Bench, with_limiter, without_limiters
from wily_sluice.forecast.prove.example import Example, examples, meant
from wily_sluice.forecast.prove.proof import (
    SUPERFLUOUS,
    TOLERANCE,
    WITHIN,
    Flood,
    Judged,
    Part,
    Promise,
    Proof,
    Stream,
    Where,
    World,
    figure,
    rate_of,
)
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

    def meets(example: Example) -> bool:
        return index in shaper.classifier.limits(example.subject(example.conversation()))

    fitting = [example for example in examples(bench.plan, limiter.terms) if meets(example) and not example.hardware]
    return list({example.parties.local: example for example in fitting}.values())


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
    mine = tuple(Stream(host, round(usable * FLOODED)) for host in hosts[:many])
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
        limiting = Limiting(beside, many, wanted, most, _free(bench, limiter, beside, many))
        if limiting.free > most and rate_of(bench.flood(beside), range(many + 1)) >= usable * (1 - TOLERANCE):
            return limiting
        best = best if best is not None and (best.free > most or limiting.free <= most) else limiting
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
    test = limiting(bench, limiter, uplink, way)
    if test is None:
        some = limited_hosts(bench, limiter, uplink)
        return Promise(replace(proof, why="it applies to all hosts") if some else proof)
    expected = f"{figure(test.wanted)} for {test.many} hosts" if test.many > 1 else figure(test.wanted)
    if limiter.quota is not None:
        expected += f" after {format_size(limiter.quota.size * limiter.quota_from)}"

    def judge(world: World) -> Judged:
        got = rate_of(world.flood(test.asked), range(test.many))
        reached = got >= test.wanted * (1 - 2 * TOLERANCE) or test.free < test.wanted
        return Judged(got <= test.most and reached, figure(got), got)

    def control() -> str:
        return SUPERFLUOUS if test.free <= test.most else _held_by_others(bench, limiter, uplink, test)

    return Promise(replace(proof, expected=expected), judge, control)


def _held_by_others(bench: Bench, limiter: Limiter, uplink: Uplink, limiting: Limiting) -> str:
    """Why its rate is never reached with all limiters of the plan; empty if one of its hosts reaches it.

    Each host is tried alone, on an idle line.
    """
    rate = limiter.rate(limiting.asked.way)
    hosts = limited_hosts(bench, limiter, uplink)
    shaper = meant(bench.plan, uplink.name)
    if rate is None or limiter.threshold is not None or limiter.quota is not None or limiter.per.whom == "conversation":
        return ""
    most = min(rate, uplink.usable(limiting.asked.way))
    best, holding = 0.0, set[str]()
    for host in hosts[:MOST_ALONE]:
        others = [bench.plan.limiters[index] for index in shaper.classifier.limits(host.subject(host.conversation()))]
        others = [
            other
            for other in others
            if other.enabled and other is not limiter and other.rate(limiting.asked.way) is not None
        ]
        if not others:
            return ""
        holding |= {other.name for other in others}
        alone = replace(limiting.asked, streams=(replace(limiting.asked.streams[0], example=host),))
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
        for example in examples(bench.plan, rule.terms):
            path = bench.where(Where(uplink.name, example))
            limited = index in shaper.classifier.limits(example.subject(example.conversation()))
            if path not in seen and not limited and example.plain:
                seen.add(path)
                yield Stream(example, round(uplink.usable(way) * FLOODED))

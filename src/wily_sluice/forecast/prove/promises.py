"""The kinds of promise, each as the tests that it comes to."""

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Final

from wily_sluice.forecast.prove.bench import (
    NOTHING,
    Bench,
    queue_location,
    with_limiter,
    with_queue,
    without_limiters,
)
from wily_sluice.forecast.prove.example import Example, examples, rule_of
from wily_sluice.forecast.prove.flood import FULL, Stream
from wily_sluice.forecast.prove.proof import TOLERANCE, Proof, Verdict
from wily_sluice.plan.model import Limiter, Plan, Uplink
from wily_sluice.units import DIRECTIONS, SECOND, Direction, Rate, format_rate, format_time, transmission_time

UNTRIED = "no conversation was found that goes there"
FLOODED = 1.2  # times the line, that a host under a limiter sends
SETTLES = 3 * SECOND  # until a limiter knows how busy the line is
WITHIN = 0.9  # of its guarantee that a leaf with a delay sends, so that the delay is owed


def _rate(rate: float) -> str:
    return format_rate(float(f"{rate:.4g}"))


def _verdict(kept: bool, without: bool) -> tuple[Verdict, str]:
    """What a test and its control come to: `without` says whether it passes without what makes the promise, too."""
    if not kept:
        return "broken", ""
    return ("proves nothing", "without it, the test passes as well") if without else ("kept", "")


def prove_guarantees(bench: Bench) -> Iterator[Proof]:
    """Each leaf gets its guarantee while all others flood."""
    plan = without_limiters(bench.plan)
    for uplink, way in bench.ways():
        streams, tree = bench.full_streams(uplink, way), plan.tree(uplink, way)
        came = dict(zip(streams, bench.flood(uplink, way, list(streams.values()), plan), strict=True))
        for leaf in bench.spec(uplink, way).leaves():
            if not leaf.guarantee:
                continue
            where, at = f"{uplink.name} {way}", queue_location(tree, leaf.path, "guarantee")
            expected = f"at least {_rate(leaf.guarantee)} while all others flood"
            if leaf.path not in came:
                yield Proof("guarantee", leaf.path, where, at, expected, "–", "not tried", UNTRIED)
                continue
            least = leaf.guarantee * (1 - TOLERANCE)
            control = with_queue(plan, tree, leaf.path, guarantee=NOTHING)
            other = dict(zip(streams, bench.flood(uplink, way, list(streams.values()), control), strict=True))
            verdict, why = _verdict(came[leaf.path].rate >= least, other[leaf.path].rate >= least)
            if verdict == "proves nothing":
                why = f"without it, {leaf.path} gets {_rate(other[leaf.path].rate)} by its priority and weight"
            yield Proof("guarantee", leaf.path, where, at, expected, _rate(came[leaf.path].rate), verdict, why)


def prove_caps(bench: Bench) -> Iterator[Proof]:
    """Each leaf that is capped reaches its cap on an idle line, and no more."""
    plan = without_limiters(bench.plan)
    for uplink, way in bench.ways():
        tree, root = plan.tree(uplink, way), bench.spec(uplink, way)
        capped = {queue.path for queue in tree.walk() if queue.cap.of(way) is not None and not queue.children}
        streams = bench.full_streams(uplink, way)
        for leaf in root.leaves():
            if leaf.path not in capped:
                continue
            where, at = f"{uplink.name} {way}", queue_location(tree, leaf.path, "cap")
            expected = f"{_rate(leaf.cap)} on an idle line"
            if leaf.path not in streams:
                yield Proof("cap", leaf.path, where, at, expected, "–", "not tried", UNTRIED)
                continue
            stream = [streams[leaf.path]]
            rate = bench.flood(uplink, way, stream, plan)[0].rate
            free = bench.flood(uplink, way, stream, with_queue(plan, tree, leaf.path, cap=NOTHING))[0].rate
            kept = abs(rate - leaf.cap) <= leaf.cap * TOLERANCE
            verdict, why = _verdict(kept, abs(free - leaf.cap) <= leaf.cap * TOLERANCE)
            yield Proof("cap", leaf.path, where, at, expected, _rate(rate), verdict, why)


def prove_delays(bench: Bench) -> Iterator[Proof]:
    """Each leaf with a delay keeps it, within its guarantee, while all others flood."""
    plan = without_limiters(bench.plan)
    for uplink, way in bench.ways():
        tree, streams = plan.tree(uplink, way), bench.full_streams(uplink, way)
        for leaf in bench.spec(uplink, way).leaves():
            delay = leaf.leaf.delay
            if delay is None:
                continue
            where, at = f"{uplink.name} {way}", queue_location(tree, leaf.path, "delay")
            packet = transmission_time(uplink.framing.cost(FULL), uplink.usable(way))
            expected = f"no packet waits over {format_time(delay + packet)}"
            if leaf.path not in streams:
                yield Proof("delay", leaf.path, where, at, expected, "–", "not tried", UNTRIED)
                continue
            mine = replace(streams[leaf.path], rate=max(1, round(leaf.guarantee * WITHIN)))
            sent = [mine, *(stream for path, stream in streams.items() if path != leaf.path)]
            longest = bench.flood(uplink, way, sent, plan)[0].longest
            queue = next(one for one in tree.walk() if one.path == leaf.path)
            control = with_queue(plan, tree, leaf.path, leaf=replace(queue.leaf, delay=None), guarantee=NOTHING)
            other = bench.flood(uplink, way, sent, control)[0].longest
            verdict, why = _verdict(longest <= delay + packet, other <= delay + packet)
            yield Proof("delay", leaf.path, where, at, expected, format_time(longest), verdict, why)


def prove_limiters(bench: Bench) -> Iterator[Proof]:
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
    if limiter.quota is not None:
        return Proof(
            "limiter", limiter.name, where, at, "its rate after the quota", "–", "not tried", "quotas are not tried yet"
        )
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
    expected = f"{_rate(wanted)} for {many} host{'s' * (many > 1)}" if many > 1 else _rate(wanted)
    if not hosts:
        return Proof("limiter", limiter.name, where, at, expected, "–", "not tried", UNTRIED)
    mine = [Stream(one, round(usable * FLOODED)) for one in hosts[:many]]
    beside = [mine]
    if limiter.threshold is not None:  # it holds only while others need the line: those of another leaf
        leaf = _leaf_of(bench, plan, uplink, hosts[0])
        others = [one for path, one in bench.leaves(uplink, way).items() if path != leaf and not meets(one)]
        beside = [[*mine, Stream(one, round(usable * FLOODED))] for one in others]
        if not beside:
            return Proof("limiter", limiter.name, where, at, expected, "–", "not tried", "it applies to everybody")
    bare, free, streams = without_limiters(bench.plan), 0.0, mine
    least = SETTLES if limiter.threshold is not None else 0
    for streams in beside:  # until there is one beside which they would have more
        free = sum(came.rate for came in bench.flood(uplink, way, streams, bare, least)[:many])
        if free > wanted * (1 + TOLERANCE):
            break
    measured = sum(came.rate for came in bench.flood(uplink, way, streams, plan, least)[:many])
    limit = wanted * (1 + TOLERANCE)
    reached = measured >= wanted * (1 - 2 * TOLERANCE) or free < wanted
    verdict, why = _verdict(measured <= limit and reached, free <= limit)
    return Proof("limiter", limiter.name, where, at, expected, _rate(measured), verdict, why)


def prove_rules(bench: Bench) -> Iterator[Proof]:
    """Each rule brings a conversation that it is about to its queue; without it, that goes elsewhere."""
    plan = bench.plan
    for index, rule in enumerate(plan.sorting):
        asked = rule.terms.asked.get("uplink")
        uplink = next((u for u in plan.uplinks if asked is None or u.name in asked), None)
        if uplink is None:
            continue
        leaf = rule.queues.get(plan.tree(uplink, "up").name, plan.tree(uplink, "up").default.path)
        at, expected = ("rules", rule.index), f"goes to {leaf}"
        shaper = bench.shaper(uplink, "up")
        example = next((one for one in examples(plan, rule.terms) if rule_of(shaper, one) == index), None)
        if example is None:
            yield Proof("rule", rule.name, uplink.name, at, expected, "–", "not tried", UNTRIED)
            continue
        measured = _leaf_of(bench, plan, uplink, example)
        rules = tuple(replace(one, enabled=False) if one.index == rule.index else one for one in plan.rules)
        other = _leaf_of(bench, replace(plan, rules=rules), uplink, example)
        verdict, why = _verdict(measured == leaf, other == leaf and rule.mark is None)
        if verdict == "proves nothing":
            why = f"without it, the same conversation goes to {other}"
        yield Proof("rule", rule.name, uplink.name, at, expected, f"goes to {measured}", verdict, why)


def _leaf_of(bench: Bench, plan: Plan, uplink: Uplink, example: Example) -> str:
    shaper = bench.shaper(uplink, "up", plan)
    return str(shaper.lane_for(conversation := example.conversation(), example.subject(conversation)).leaf.path)


KINDS: Final[tuple[Callable[[Bench], Iterator[Proof]], ...]] = (
    prove_guarantees,
    prove_caps,
    prove_delays,
    prove_limiters,
    prove_rules,
)


def prove(plan: Plan) -> Iterator[Proof]:
    """Every promise of a plan, one after another."""
    bench = Bench(plan)
    for kind in KINDS:
        yield from kind(bench)

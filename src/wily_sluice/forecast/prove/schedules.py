"""Rules and limiters with a schedule apply while it holds, and not otherwise."""

from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import datetime

from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.conversations import where_it_applies
from wily_sluice.forecast.prove.limiters import limiting
from wily_sluice.forecast.prove.proof import SUPERFLUOUS, UNTRIED, Judged, Promise, Proof, Where, World, rate_of
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Limiter, Rule
from wily_sluice.units import DIRECTIONS

Applies = Callable[[World, datetime], bool]


def promises(bench: Bench) -> Iterator[Promise]:
    """Each applies right after its schedule begins and before it ends, and not right before and after."""
    for limiter in bench.plan.limiters:
        if limiter.when is not None and limiter.enabled:
            yield _of_limiter(bench, limiter, limiter.when)
    for rule in bench.plan.sorting:
        if rule.terms.when is not None:
            yield _of_rule(bench, rule, rule.terms.when)


def _of_limiter(bench: Bench, limiter: Limiter, when: str) -> Promise:
    uplink = next((u for u in bench.plan.uplinks if limiter.uplink in (None, u.name)), bench.plan.uplinks[0])
    way = next((way for way in DIRECTIONS if limiter.rate(way) is not None), None)
    test = limiting(bench, limiter, uplink, way) if way is not None else None

    def applies(world: World, moment: datetime) -> bool:
        assert test is not None
        return rate_of(world.flood(replace(test.asked, moment=moment)), range(test.many)) <= test.most

    promise = _scheduled(bench, limiter.name, when, ("limiters", limiter.name, "when"), uplink.name, applies)
    if test is None:
        return Promise(replace(promise.proof, why=UNTRIED))
    return replace(promise, control=lambda: SUPERFLUOUS if test.free <= test.most else "")


def _of_rule(bench: Bench, rule: Rule, when: str) -> Promise:
    uplink, example = where_it_applies(bench, rule)
    leaf = rule.queues.get(bench.plan.tree(uplink, "up").name)

    def applies(world: World, moment: datetime) -> bool:
        assert example is not None
        return world.where(Where(uplink.name, example, moment)) == leaf

    promise = _scheduled(bench, rule.name, when, ("rules", rule.index, "when"), uplink.name, applies)
    if example is None:
        return Promise(replace(promise.proof, why=UNTRIED))

    def control() -> str:
        """Whether it uses the same leaf while the rule does not apply."""
        free = bench.moments(when)[1][0]
        return SUPERFLUOUS if bench.where(Where(uplink.name, example, free)) == leaf else ""

    return replace(promise, control=control)


def _scheduled(bench: Bench, name: str, when: str, at: Location, uplink: str, applies: Applies) -> Promise:
    held, free = bench.moments(when)
    expected = f"applies {_span(held, free)}"
    proof = Proof("schedule", name, when, at, expected, uplink=uplink)
    if not held or not free:
        return Promise(replace(proof, expected="applies at times", why="it never changes"))

    def judge(world: World) -> Judged:
        while_held = [applies(world, moment) for moment in held]
        otherwise = [applies(world, moment) for moment in free]
        if all(while_held) and not any(otherwise):
            return Judged(True, "it does")
        if all(while_held) == all(otherwise):
            return Judged(False, "always applies" if all(otherwise) else "applies at other times")
        wrong = [f"{moment:%a %H:%M:%S}" for moment, does in zip(held, while_held, strict=True) if not does]
        wrong += [f"not {moment:%a %H:%M:%S}" for moment, does in zip(free, otherwise, strict=True) if does]
        return Judged(False, "never applies" if not any((*while_held, *otherwise)) else f"wrong on {', '.join(wrong)}")

    return Promise(proof, judge)


def _span(held: tuple[datetime, ...], free: tuple[datetime, ...]) -> str:
    """`from Mon 28 Dec 18:00 until 22:00`."""
    if not held:
        return "at times"
    begin = f"from {held[0]:%a %d %b %H:%M}"
    if len(free) < 2:
        return begin
    end = free[1]
    return f"{begin} until " + format(end, "%H:%M" if end.date() == held[0].date() else "%a %d %b %H:%M")

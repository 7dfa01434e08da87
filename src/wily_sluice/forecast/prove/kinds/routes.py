"""Each route leads conversations over its lines, shared by weight; and over another line while these are down."""

from collections import Counter
from collections.abc import Iterator, Sequence, Set
from dataclasses import replace

from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.example import Example, examples
from wily_sluice.forecast.prove.proof import UNTRIED, Judged, Promise, Proof
from wily_sluice.forecast.prove.setting import Led, World
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Plan, Route

MOST_SHARED = 24  # conversations for the shares of one route


def promises(bench: Bench) -> Iterator[Promise]:
    """Each route leads a conversation that it matches over its lines; with these down, over its other one."""
    for route in bench.plan.routing:
        yield _shares(bench, route)
        if route.otherwise is not None:
            yield from _takeover(bench, route, route.otherwise)


def _example_of(bench: Bench, route: Route, lines: Set[str]) -> tuple[Example | None, str]:
    """A conversation that a route matches first by its parties and names alone, and that none of the uplinks refuses;
    or the reason why there is none.
    """
    moment = bench.within(route.terms.when)
    why = UNTRIED
    for one in examples(bench.plan, route.terms):
        if one.known.seen or one.shape or one.moved or one.fast or one.kind or one.hardware:
            continue  # known only later
        met, refused = bench.route_of(one, moment)
        if met == route.index:
            if not refused & lines:
                return one, ""
            word = "refuses" if len(refused & lines) == 1 else "refuse"
            why = f"{' and '.join(sorted(refused & lines))} {word} the queue of every conversation that was found"
    return None, why


def _shares(bench: Bench, route: Route) -> Promise:
    many = _many(route)
    total = sum(weight for _, weight in route.shares)
    parts = {name: many * weight / total for name, weight in route.shares}
    lines = " and ".join(parts)
    expected = f"goes over {lines}" if len(parts) == 1 else _counted(parts)
    example, why = _example_of(bench, route, parts.keys())
    proof = Proof("route", route.name, lines, _location(route), expected, why=why)
    if example is None:
        return Promise(proof)
    asked = Led(example, many, moment=bench.within(route.terms.when))

    def so(lines: Sequence[str]) -> bool:
        counts = Counter(lines)
        return set(counts) <= set(parts) and all(abs(counts[name] - part) < 1 for name, part in parts.items())

    def judge(world: World) -> Judged:
        found = world.lines(asked)
        return Judged(so(found), _went(found))

    def control() -> str:
        found = bench.lines(asked, _with_route(bench.plan, replace(route, enabled=False)))
        return f"without it, the same {_went(found)}" if so(found) else ""

    return Promise(proof, judge, control)


def _takeover(bench: Bench, route: Route, otherwise: str) -> Iterator[Promise]:
    carriers = {tunnel.name: tunnel.uplink for tunnel in bench.plan.tunnels}
    down = frozenset(carriers.get(name, name) for name, _ in route.shares)
    if carriers.get(otherwise, otherwise) in down:
        return
    failed = " and ".join(sorted(down))
    expected = f"while {failed} {'is' if len(down) == 1 else 'are'} down, goes over {otherwise}"
    example, why = _example_of(bench, route, {otherwise})
    proof = Proof("takeover", route.name, otherwise, (*_location(route), "else"), expected, why=why)
    if example is None:
        yield Promise(proof)
        return
    asked = Led(example, 1, down, bench.within(route.terms.when))

    def judge(world: World) -> Judged:
        found = world.lines(asked)
        return Judged(found == (otherwise,), _went(found))

    def control() -> str:
        found = bench.lines(asked, _with_route(bench.plan, replace(route, otherwise=None)))
        return f"without `else`, the same {_went(found)}" if found == (otherwise,) else ""

    yield Promise(proof, judge, control)


def _many(route: Route) -> int:
    """The number of conversations that divides evenly among the uplinks, if it is not too large."""
    total = sum(weight for _, weight in route.shares)
    if len(route.shares) == 1:
        return 1
    return next(
        (
            many
            for many in range(len(route.shares), MOST_SHARED)
            if all(many * weight / total == round(many * weight / total) >= 1 for _, weight in route.shares)
        ),
        MOST_SHARED,
    )


def _location(route: Route) -> Location:
    return ("routes", route.index)


def _with_route(plan: Plan, changed: Route) -> Plan:
    return replace(plan, routes=tuple(changed if one.index == changed.index else one for one in plan.routes))


def _went(lines: Sequence[str]) -> str:
    """`goes over fibre`, or `3 over fibre and 1 over mobile`."""
    counts = Counter(lines)
    if len(lines) == 1:
        return f"goes over {lines[0]}" if lines[0] else "has no route"
    return _counted(counts)


def _counted(counts: dict[str, float] | Counter[str]) -> str:
    return " and ".join(
        f"{count:.3g} over {name}" if name else f"{count} by no route" for name, count in counts.items()
    )

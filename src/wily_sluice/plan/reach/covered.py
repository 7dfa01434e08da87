"""Rules and routes that no conversation can reach, and lines that refuse all.

Rules and routes that no conversation can reach because earlier ones take them all.

Exact, for all fields. A route only takes conversations from a later one while it has a working uplink: the later route
may be meant for the time when the earlier uplinks are down.
"""

from collections.abc import Callable, Iterator
from contextlib import suppress
from random import Random
from typing import Generic, NamedTuple, TypeVar

from wily_sluice.plan.model import Plan, Route, Rule, Uplink
from wily_sluice.plan.reach.regions import MOVED, UPLINK, Box, Takers, TooInvolvedError, draw, meet_all
from wily_sluice.plan.reach.space import MOST_BOXES, Space

DRAWS = 32


def refused(plan: Plan) -> Iterator[tuple[Route, list[str]]]:
    """Each route with those of its uplinks that refuse all traffic it matches."""
    refusing = {uplink.name: uplink for uplink in plan.uplinks if uplink.refuses}
    routes = [route for route in plan.routing if refusing]
    if not routes:
        return
    space = Space(plan, [*plan.sorting, *routes])
    try:
        rules = [space.region(rule.terms) for rule in plan.sorting]
    except TooInvolvedError:
        return
    takers = Takers(rules)
    carriers = {tunnel.name: tunnel.uplink for tunnel in plan.tunnels}
    for route in routes:
        names = [name for name, _ in route.shares] + ([route.otherwise] if route.otherwise is not None else [])
        refused_routes = []
        for name in dict.fromkeys(names):
            uplink = refusing.get(carriers.get(name, name))
            if uplink is not None and _refuses_all(plan, space, rules, takers, route, uplink):
                refused_routes.append(name)
        if refused_routes:
            yield route, refused_routes


def _refuses_all(
    plan: Plan, space: Space, rules: list[list[Box]], takers: Takers, route: Route, uplink: Uplink
) -> bool:
    tree = plan.trees.get(uplink.tree.of("up") or "")
    if tree is None or not any(leaf.default for leaf in tree.leaves):
        return False
    refuses = [rule.queues.get(tree.name, tree.default.path) in uplink.refuses for rule in plan.sorting]
    refuses.append(tree.default.path in uplink.refuses)
    place = plan.uplinks.index(uplink)
    try:
        begun = {UPLINK: ((place, place),), MOVED: ((0, 0),)}  # it is led when it opens
        here = meet_all(space.reach(route.terms), [begun], MOST_BOXES)
    except TooInvolvedError:
        return False
    if not here:
        return False
    drawn = Random(route.index)
    for _ in range(DRAWS):
        if not refuses[min(takers.of(draw(here, space.whole, drawn), len(rules)), default=len(rules))]:
            return False
    rest = here
    try:
        for rule, dropped in zip(rules, refuses, strict=False):
            if not dropped and meet_all(rest, rule, MOST_BOXES):
                return False
            rest = space.left(rest, rule)
    except TooInvolvedError:
        return False
    return not rest or refuses[-1]


MOST_TAKERS = 2000  # rules that together leave nothing of one: beyond that it is not told
ALONE_DRAWS = 8
Asked = TypeVar("Asked")
Asking = TypeVar("Asking", Rule, Route)


class OutOfReach(NamedTuple, Generic[Asking]):
    """A rule or route, and the earlier ones that together match all its conversations; none if its terms exclude each
    other.
    """

    one: Asking
    by: list[Asking]


def rules_out_of_reach(plan: Plan) -> tuple[list[OutOfReach[Rule]], list[Rule]]:
    """The rules that no conversation can reach; and those with too many combinations of conditions to say so."""
    space = Space(plan, plan.sorting)
    asked = [_unless_too_involved(space.region, rule.terms) for rule in plan.sorting]
    takers = Takers(asked)
    covered = (_covered(space, index, asked, takers) for index in range(len(asked)))
    out_of_reach = [
        OutOfReach(rule, [plan.sorting[index] for index in by])
        for rule, by in zip(plan.sorting, covered, strict=True)
        if by is not None
    ]
    return out_of_reach, [rule for rule, region in zip(plan.sorting, asked, strict=True) if region is None]


def routes_out_of_reach(plan: Plan) -> list[OutOfReach[Route]]:
    """The routes that no conversation can reach, for every state of uplinks and quotas."""
    space = Space(plan, plan.routing)
    asked = [_unless_too_involved(space.region, route.terms) for route in plan.routing]
    unreached = []
    for index, route in enumerate(plan.routing):
        by: set[int] = set()
        # While only one of its lines is up, those above that have this line must take all of it; and so for each.
        for line in _lines(route, spent=False):
            having = [
                region if line in _lines(above, spent=above.budget is not None) else None
                for above, region in zip(plan.routing[:index], asked, strict=False)
            ]
            covered = _covered(space, index, [*having, asked[index]], Takers(having))
            if covered is None:
                break
            by.update(covered)
        else:
            unreached.append(OutOfReach(route, [plan.routing[index] for index in sorted(by)]))
    return unreached


def _lines(route: Route, spent: bool) -> set[str]:
    """Those that a route may choose, with its part of a quota spent or not."""
    shares = set() if spent else {name for name, _ in route.shares}
    return shares | ({route.otherwise} if route.otherwise is not None else set())


def _covered(space: Space, index: int, asked: list[list[Box] | None], takers: Takers) -> list[int] | None:
    """The earlier ones that together take everything; none if nothing matches at all; None if something is left."""
    asks = asked[index]
    region = _unless_too_involved(space.possible, asks) if asks is not None else None
    if region:
        return _covering(space, region, index, asked, takers)
    return [] if region is not None else None


def _unless_too_involved(find: Callable[[Asked], list[Box]], what: Asked) -> list[Box] | None:
    try:
        return find(what)
    except TooInvolvedError:
        return None


def _covering(
    space: Space, region: list[Box], index: int, asked: list[list[Box] | None], takers: Takers
) -> list[int] | None:
    """Those before an index that leave nothing of a region; None when something is left."""
    rest, by = region, []
    drawn = Random(index)
    for _ in range(MOST_TAKERS):
        taking = takers.of(draw(rest, space.whole, drawn), index)
        if not taking:
            return None
        try:
            rest = space.left(rest, asked[taking[0]] or [])
        except TooInvolvedError:
            return None
        by.append(taking[0])
        if not rest:
            break
    else:
        return None
    # One of them may do it alone, and then the others have nothing to do with it.
    able = set(takers.of(draw(region, space.whole, drawn), index))
    for _ in range(ALONE_DRAWS):
        able &= set(takers.of(draw(region, space.whole, drawn), index))
    for position in sorted(able):
        with suppress(TooInvolvedError):
            if not space.left(region, asked[position] or []):
                return [position]
    return sorted(by)

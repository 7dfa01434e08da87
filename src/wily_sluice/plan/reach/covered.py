"""Rules and routes that no conversation can reach because earlier ones take them all.

Exact, for all fields. A route only takes conversations from a later one while it has a working uplink: the later route
may be meant for the time when the earlier uplinks are down.
"""

from collections.abc import Callable
from contextlib import suppress
from random import Random
from typing import Generic, NamedTuple, TypeVar

from wily_sluice.plan.model import Plan, Route, Rule
from wily_sluice.plan.reach.regions import Box, TooInvolvedError
from wily_sluice.plan.reach.space import Space
from wily_sluice.plan.reach.takers import Takers, draw

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


def rules_out_of_reach(plan: Plan) -> list[OutOfReach[Rule]]:
    """The rules that no conversation can reach."""
    space = Space(plan, plan.sorting)
    asked = [_unless_too_involved(space.region, rule.terms) for rule in plan.sorting]
    takers = Takers(asked)
    covered = (_covered(space, index, asked, takers) for index in range(len(asked)))
    return [
        OutOfReach(rule, [plan.sorting[one] for one in by])
        for rule, by in zip(plan.sorting, covered, strict=True)
        if by is not None
    ]


def routes_out_of_reach(plan: Plan) -> list[OutOfReach[Route]]:
    """The routes that no conversation can reach, for every state of uplinks and quotas."""
    space = Space(plan, plan.routing)
    asked = [_unless_too_involved(space.region, route.terms) for route in plan.routing]
    found = []
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
            found.append(OutOfReach(route, [plan.routing[one] for one in sorted(by)]))
    return found


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
    for one in sorted(able):
        with suppress(TooInvolvedError):
            if not space.left(region, asked[one] or []):
                return [one]
    return sorted(by)

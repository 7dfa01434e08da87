"""Which lines refuse all that a route can lead there."""

from collections.abc import Iterator
from random import Random

from wily_sluice.plan.model import Plan, Route, Uplink
from wily_sluice.plan.reach.regions import MOVED, UPLINK, Box, TooInvolvedError, meet_all
from wily_sluice.plan.reach.space import MOST_BOXES, Space
from wily_sluice.plan.reach.takers import Takers, draw

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
        found = []
        for name in dict.fromkeys(names):
            uplink = refusing.get(carriers.get(name, name))
            if uplink is not None and _refuses_all(plan, space, rules, takers, route, uplink):
                found.append(name)
        if found:
            yield route, found


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

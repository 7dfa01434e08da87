"""Which rules no conversation can come to: those that rules above take all of. Exact, for all that rules can ask of."""

from collections.abc import Callable
from contextlib import suppress
from random import Random
from typing import NamedTuple, TypeVar

from wily_sluice.plan.model import Plan, Rule
from wily_sluice.plan.reach.regions import Box, TooInvolvedError
from wily_sluice.plan.reach.space import Space
from wily_sluice.plan.reach.takers import Takers, draw

MOST_TAKERS = 2000  # rules that together leave nothing of one: beyond that it is not told
ALONE_DRAWS = 8

Asked = TypeVar("Asked")


class OutOfReach(NamedTuple):
    """A rule, and those above it that take all of it between them; none where its own terms exclude each other."""

    rule: Rule
    by: list[Rule]


def out_of_reach(plan: Plan) -> list[OutOfReach]:
    """The rules that no conversation can come to."""
    space = Space(plan)
    asked = [_unless_too_involved(space.region, rule.terms) for rule in plan.sorting]
    takers = Takers(asked)
    found = []
    for index, rule in enumerate(plan.sorting):
        asks = asked[index]
        region = _unless_too_involved(space.possible, asks) if asks is not None else None
        if region:
            by = _covering(space, region, index, asked, takers)
            if by is not None:
                found.append(OutOfReach(rule, [plan.sorting[one] for one in by]))
        elif region is not None:
            found.append(OutOfReach(rule, []))
    return found


def _unless_too_involved(find: Callable[[Asked], list[Box]], what: Asked) -> list[Box] | None:
    try:
        return find(what)
    except TooInvolvedError:
        return None


def _covering(
    space: Space, region: list[Box], index: int, asked: list[list[Box] | None], takers: Takers
) -> list[int] | None:
    """The rules before an index that leave nothing of a region; None when something is left."""
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

"""Which line a conversation takes: the first route that matches, of whose lines one is up.

A route shares its conversations among several lines by weight. Which line is next is decided by who is furthest behind
its share, so that even a few conversations are shared as exactly as they can be.
"""

from typing import Final

from wily_sluice.engine.classify.classifier import ANYONE
from wily_sluice.engine.classify.condition import Condition, Subject

NO_LINE: Final = -1


class Route:
    """`shares` are the uplinks of the route, by number, with their weights; `otherwise` is the alternative when none is
    up, or NO_LINE.
    """

    __slots__ = ("_credits", "condition", "name", "otherwise", "shares")

    def __init__(
        self, name: str, condition: Condition, shares: tuple[tuple[int, float], ...], otherwise: int = NO_LINE
    ) -> None:
        self.name = name
        self.condition = condition if condition is not None else ANYONE
        self.shares = shares
        self.otherwise = otherwise
        self._credits = [0.0] * len(shares)

    def line(self, down: frozenset[int], spent: bool = False) -> int:
        """The uplink of the next conversation; NO_LINE if every candidate is down. If the route's quota share is
        `spent`, only `otherwise` remains.
        """
        live = [index for index, (line, _) in enumerate(self.shares) if line not in down and not spent]
        if not live:
            return self.otherwise if self.otherwise not in down else NO_LINE
        credits = self._credits
        total, best = 0.0, live[0]
        for index in live:
            weight = self.shares[index][1]
            total += weight
            credits[index] += weight
            if credits[index] > credits[best]:
                best = index
        credits[best] -= total
        return self.shares[best][0]


class Router:
    """The routes of a plan, in order. `down` are unusable uplinks, `spent` the names of routes whose quota share is
    used up.
    """

    __slots__ = ("down", "routes", "spent")

    def __init__(self, routes: tuple[Route, ...]) -> None:
        self.routes = routes
        self.down: frozenset[int] = frozenset()
        self.spent: frozenset[str] = frozenset()

    def choose(self, subject: Subject, refusing: frozenset[int] = frozenset()) -> tuple[str, int]:
        """The route that a conversation takes and its line; an empty name and NO_LINE where none has one for it.
        Lines that are `refusing` it are not for it.
        """
        down = self.down | refusing if refusing else self.down
        for route in self.routes:
            if route.condition.holds(subject):
                line = route.line(down, route.name in self.spent)
                if line != NO_LINE:
                    return route.name, line
        return "", NO_LINE

"""Where a conversation goes: its line by routes, its queue by rules, and its limiters.

Which line a conversation takes: the first route that matches, of whose lines one is up.

A route shares its conversations among several lines by weight. Which line is next is decided by who is furthest behind
its share, so that even a few conversations are shared as exactly as they can be.

Sorts a conversation: into one queue by the first rule that matches, and under every limiter that matches.

Called once for a conversation, and again when something changes that rules look at: so the cost of a packet does not
depend on how many rules there are. Where rules ask for kinds or lengths of packets, a conversation is sorted once for
each sort of packets that it shows.
"""

from typing import Final

from wily_sluice.engine.classify.condition import LONGEST_PACKET, All, Clock, Condition, Subject
from wily_sluice.engine.classify.header import KIND_BITS
from wily_sluice.engine.classify.neighbours import GATEWAY, Neighbours
from wily_sluice.engine.classify.rule_index import Reach, RuleIndex
from wily_sluice.engine.classify.service import Service
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.conversations.watch import WatchSpec
from wily_sluice.units import Size

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


ANYONE: Final = All()
MOST_LENGTHS: Final = 8  # that rules may set apart, since each packet is held against all of them


class Rule:
    """The index of its leaf, and a DSCP that its packets are to carry, or -1."""

    __slots__ = ("condition", "dscp", "leaf", "name", "reach")

    def __init__(
        self, condition: Condition, leaf: int, dscp: int = -1, reach: Reach | None = None, name: str = ""
    ) -> None:
        self.name = name
        self.condition = condition
        self.leaf = leaf
        self.dscp = dscp
        self.reach = reach or Reach()


class Classifier:
    """Rules in their order, the default leaf, and which conversations each limiter applies to.

    `watches_dscps` says that a packet's DSCP can change what its conversation is sorted to; `kinds` are the kinds of
    packets that rules ask for, as bits, and `lengths` the lengths that they set apart, in order; `writes_dscp` says
    that a rule writes a DSCP; `watch` is what else they look at as time goes on. `services` are those that traffic is
    counted by.
    """

    __slots__ = ("_index", "_limiter_index", "clock", "default", "kinds", "lengths", "limiters", "neighbours",
                 "rules", "services", "watch", "watches_dscps", "writes_dscp")  # fmt: skip

    def __init__(
        self,
        rules: tuple[Rule, ...],
        default: int,
        limiters: tuple[Condition, ...] = (),
        neighbours: Neighbours | None = None,
        reaches: tuple[Reach, ...] = (),
        clock: Clock | None = None,
        watches_dscps: bool = False,
        kinds: int = 0,
        watch: WatchSpec | None = None,
        services: tuple[Service, ...] = (),
        lengths: tuple[Size, ...] = (),
    ) -> None:
        self.rules = rules
        self.services = services
        self.default = default
        self.limiters = limiters
        self.neighbours = neighbours if neighbours is not None else Neighbours()
        self.clock = clock if clock is not None else Clock()
        self.watches_dscps = watches_dscps
        self.kinds = kinds
        self.lengths = lengths
        self.writes_dscp = any(rule.dscp >= 0 for rule in rules)
        self.watch = watch if watch is not None else WatchSpec()
        self._index = RuleIndex([rule.reach for rule in rules])
        self._limiter_index = RuleIndex(list(reaches) or [Reach() for _ in limiters])

    def apart(self, kind: int, length: Size) -> int:
        """What tells a packet from its conversation's others, by its kinds and length; 0 where nothing does."""
        apart = kind & self.kinds
        for index, longest in enumerate(self.lengths):
            if length <= longest:
                return apart | index + 1 << KIND_BITS
        return apart

    def sort_of(self, apart: int) -> tuple[int, Size | None]:
        """The kinds of packets that are set apart, and their greatest length."""
        index = apart >> KIND_BITS
        return apart & (1 << KIND_BITS) - 1, self.lengths[index - 1] if index else None

    def subject(self, conversation: Conversation, kind: int = 0, length: Size = LONGEST_PACKET) -> Subject:
        """The conversation as it is now, for conditions to be asked of."""
        local, home, neighbours = conversation.parties.local, conversation.home, self.neighbours
        host = neighbours.host(local) if home not in GATEWAY.addresses else b""
        own = bool(home) and neighbours.same_network(home, host)
        return Subject(conversation, neighbours.hardware(local), kind, host, length, own)

    def service(self, subject: Subject) -> str:
        """The service of a conversation, for the counters: the first match, otherwise the recognised protocol."""
        known = subject.known
        for service in self.services:
            if service.sign(subject.parties, known, subject.shape):
                return service.name
        return known.seen

    def rule(self, subject: Subject) -> int:
        """The index of the first rule that matches; -1 for none."""
        candidates = self._index.candidates(subject.parties)
        while candidates:
            lowest = candidates & -candidates
            index = lowest.bit_length() - 1
            if self.rules[index].condition.holds(subject):
                return index
            candidates ^= lowest
        return -1

    def limits(self, subject: Subject) -> list[int]:
        """The places of all limiters that name the conversation."""
        indices: list[int] = []
        candidates = self._limiter_index.candidates(subject.parties)
        while candidates:
            lowest = candidates & -candidates
            index = lowest.bit_length() - 1
            if self.limiters[index].holds(subject):
                indices.append(index)
            candidates ^= lowest
        return indices

"""Compiles a plan into engine objects. The one place where the two meet."""

from collections.abc import Callable
from datetime import datetime

from wily_sluice.engine.classify.condition import Clock
from wily_sluice.engine.classify.neighbours import Neighbours
from wily_sluice.engine.conversations.conversation import ConversationTable
from wily_sluice.engine.conversations.crowd import Crowd
from wily_sluice.engine.conversations.strangers import Home
from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.engine.limit.limiter import Limiter, LimiterSpec
from wily_sluice.engine.limit.limiter_bank import LimiterBank
from wily_sluice.engine.limit.quota import Ledger
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.codel import TARGET, Codel
from wily_sluice.engine.queueing.fifo import Fifo
from wily_sluice.engine.queueing.fq_codel import MOST_PACKETS, FqCodel
from wily_sluice.engine.queueing.leaf_queue import LeafQueue
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.queueing.tree import Tree
from wily_sluice.engine.shaper import Shaper, forward_to_tree
from wily_sluice.plan.asking import Party
from wily_sluice.plan.build_rules import RuleBuilder
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.units import (
    BYTE_TIME,
    DIRECTIONS,
    HIGHEST_RATE,
    MILLISECOND,
    SECOND,
    Direction,
    Nanoseconds,
    Rate,
    Size,
    transmission_time,
)

LONGEST_WAIT: Nanoseconds = 1000 * MILLISECOND  # of a leaf's backlog, at its cap
FEWEST_BYTES = 128 * LONGEST_FRAME


def build_tree(spec: QueueSpec, drop: Callable[[Packet], None]) -> Tree:
    """A tree whose leaves hold packets as they are specified to."""
    fair = spec.cap // sum(1 for _ in spec.leaves())

    def leaf_queue(leaf: QueueSpec, leaf_drop: Callable[[Packet], None]) -> LeafQueue:
        limit, most, target = leaf_limit(leaf), leaf_most(leaf), leaf_target(leaf, fair)
        if leaf.leaf.aqm == "fifo":
            return Fifo(leaf_drop, limit, most)
        if leaf.leaf.aqm == "codel":
            return Codel(leaf_drop, limit, most, target, leaf.leaf.ecn, leaf.largest)
        by_host = leaf.leaf.fair_by == "host"
        return FqCodel(leaf_drop, limit, most, target, by_host=by_host, ecn=leaf.leaf.ecn, largest=leaf.largest)

    return Tree(spec, drop, leaf_queue)


def leaf_limit(leaf: QueueSpec) -> Size:
    """How many bytes a leaf holds at most."""
    asked = leaf.leaf
    if asked.most_bytes is not None:
        return asked.most_bytes
    if asked.longest is not None:
        return leaf.cap * asked.longest // BYTE_TIME
    return max(FEWEST_BYTES, leaf.cap * LONGEST_WAIT // BYTE_TIME)


def leaf_most(leaf: QueueSpec) -> int:
    """How many packets a leaf holds at most."""
    return leaf.leaf.most_packets or MOST_PACKETS


def leaf_target(leaf: QueueSpec, fair: Rate) -> Nanoseconds:
    """What wait CoDel brings a leaf back to. `fair` is what it would have of the line if all leaves had as much.

    On a slow queue one frame alone takes longer than the usual target (RFC 8289 §4.3), which would then drop packets
    that nobody could have sent sooner.
    """
    slowest = max(leaf.guarantee, min(leaf.cap, fair), 1)
    return max(TARGET, 3 * transmission_time(leaf.largest, slowest) // 2)


def open_schedules(plan: Plan, moment: datetime) -> int:
    """Which of a plan's schedules hold at a moment, as bits; a calendar may take its time to say so."""
    return sum(1 << place for place, one in enumerate(plan.schedules.values()) if one.holds(moment))


def homes_of(plan: Plan) -> dict[str, Home]:
    """The plan's networks by their interfaces, for what comes from there or goes there."""
    return {network.interface: Home(network.name, network.addresses) for network in plan.networks}


def _named(party: Party | None) -> bool:
    return party is not None and bool(party.members.names)


class SiteEngine:
    """All shapers of a site, with the conversations and limiters that they share. `drop` must not call back.

    Until `at` is called, what a schedule governs holds. `recognizes` says that the plan asks what conversations speak,
    or for names, or has these kept; `kinds` are the kinds of packets that it asks for. With `behaviour`, how
    conversations behave is followed, asked for or not. With `crowded`, it is bounded how fast conversations may open.
    """

    def __init__(
        self, plan: Plan, drop: Callable[[Packet], None], behaviour: bool = False, crowded: bool = False
    ) -> None:
        self._plan = plan
        builder = RuleBuilder(plan, Clock(), behaviour)
        asked = [rule.terms for rule in plan.sorting] + [limiter.terms for limiter in plan.limiters]
        parties = [terms.local for one in asked for terms in one.walk()]
        self.neighbours = Neighbours(frozenset(one for party in parties if party for one in party.members.hardware))
        self._stale = False
        self._sorted_again: Nanoseconds = -SECOND
        self.clock = builder.clock
        self.kinds = builder.kinds
        self.recognizes = plan.gate.keep_names is not None or any(
            terms.services or _named(terms.remote) for one in asked for terms in one.walk()
        )
        self.watches_marks, self.watch = builder.watches_marks, builder.watch
        self.conversations = ConversationTable(
            watch_marks=builder.watches_marks,
            watch=builder.watch,
            crowd=Crowd(tuple(homes_of(plan).values())) if crowded else None,
        )
        self.ledgers = {limiter.name: Ledger() for limiter in plan.limiters if limiter.quota and limiter.enabled}
        self.banks = {way: LimiterBank(self._limiters(way), forward_to_tree, drop) for way in DIRECTIONS}
        self.shapers = {
            (uplink.name, way): Shaper(
                way,
                build_tree(resolve(plan, uplink, way), drop),
                builder.classifier(plan.tree(uplink, way), uplink.name, self.neighbours),
                self.banks[way],
                frozenset(n for n, lim in enumerate(plan.limiters) if lim.uplink not in (None, uplink.name)),
            )
            for uplink in plan.uplinks
            for way in DIRECTIONS
        }

    @property
    def _rules_follow_schedules(self) -> bool:
        return any(terms.when is not None for rule in self._plan.sorting for terms in rule.terms.walk())

    def _limiters(self, direction: Direction) -> tuple[Limiter | None, ...]:
        """In the order of the plan; None for one that does not cap this direction.

        One with a quota stands in both directions, so that it counts what it does not cap.
        """
        limiters: list[Limiter | None] = []
        for planned_limiter in self._plan.limiters:
            spec, ledger = planned_limiter.spec(direction), self.ledgers.get(planned_limiter.name)
            if spec is None and ledger is not None:
                spec = LimiterSpec(planned_limiter.name, HIGHEST_RATE, planned_limiter.per)
            limiters.append(Limiter(spec, ledger) if spec is not None else None)
        return tuple(limiters)

    def reconfigure(self, other: "SiteEngine", now: Nanoseconds) -> None:
        """Go on by the plan of `other`, a new engine: with the packets, conversations and counters that are here.

        `other` is used up. What stands in shapers that are no more is the caller's to let go. Call `at` next.
        """
        self._plan, self.clock, self.kinds, self.recognizes = other._plan, other.clock, other.kinds, other.recognizes
        other.neighbours.succeed(self.neighbours)
        self.neighbours = other.neighbours
        self.conversations.reconfigure(other.watches_marks, other.watch, other.conversations.crowd)
        self.watches_marks, self.watch = other.watches_marks, other.watch
        for direction, bank in self.banks.items():
            bank.reconfigure(other.banks[direction], now)
        self.ledgers = {
            limiter.spec.name: limiter.ledger
            for bank in self.banks.values()
            for limiter in bank.limiters
            if limiter is not None and limiter.ledger is not None
        }
        before, uplinks = self.shapers, {uplink.name: uplink for uplink in self._plan.uplinks}
        self.shapers = {}
        for (name, way), shaper in other.shapers.items():
            old = before.get((name, way))
            if old is None:
                shaper.bank = self.banks[way]
            else:
                old.reconfigure(shaper, resolve(self._plan, uplinks[name], way), now)
            self.shapers[name, way] = old or shaper

    def sort_again(self) -> None:
        """Have every conversation sorted again at its next packet."""
        for shaper in self.shapers.values():
            shaper.epoch += 1

    def learn(self, address: bytes, hardware: bytes, now: Nanoseconds) -> None:
        """Take note of the hardware address of who sent from a local address."""
        if self.neighbours.learn(address, hardware, now):
            self.neighbours_changed(now)

    def neighbours_changed(self, now: Nanoseconds) -> None:
        """Have conversations sorted again, since an address is now another device's; though once a second at most."""
        if now - self._sorted_again >= SECOND:
            self._sorted_again, self._stale = now, False
            self.sort_again()
        else:
            self._stale = True

    def settle(self, now: Nanoseconds) -> None:
        """Do what was put off, if it is time; to be called now and then."""
        if self._stale:
            self.neighbours_changed(now)

    def at(self, moment: datetime) -> bool:
        """Follow the schedules to a moment, given in the site's time zone. True when something changed."""
        return self.keep_to(open_schedules(self._plan, moment))

    def keep_to(self, bits: int) -> bool:
        """Follow the schedules, of which those hold that have a bit here. True when something changed."""
        changed = bits != self.clock.open and self._rules_follow_schedules
        self.clock.open = bits
        places = {name: place for place, name in enumerate(self._plan.schedules)}
        for planned_limiter, *both in zip(
            self._plan.limiters, *(bank.limiters for bank in self.banks.values()), strict=True
        ):
            when = planned_limiter.when
            active = when is None or bool(bits >> places[when] & 1)
            for limiter in both:
                if limiter is not None and limiter.active != active:
                    limiter.active = active
                    changed = True
        if changed:
            self.sort_again()
        return changed

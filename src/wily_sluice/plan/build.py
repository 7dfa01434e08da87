"""Compiles a plan into engine objects. The one place where the two meet."""

from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import datetime
from functools import partial

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.condition import Clock
from wily_sluice.engine.classify.neighbours import Home, Neighbours
from wily_sluice.engine.conversations.aggregate import AggregateFlow
from wily_sluice.engine.limit.limiter import Ledger, Limiter, LimiterSpec, Per
from wily_sluice.engine.limit.limiter_bank import LimiterBank
from wily_sluice.engine.packet import LONGEST_FRAME, Packet
from wily_sluice.engine.queueing.codel import TARGET, Codel
from wily_sluice.engine.queueing.fq_codel import MOST_PACKETS, FqCodel
from wily_sluice.engine.queueing.leaf_queue import Fifo, LeafQueue, Refusing
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.queueing.tree import Tree
from wily_sluice.engine.shaper import Shaper, forward_to_tree
from wily_sluice.engine.site import SiteEngine, SiteSpec
from wily_sluice.plan import model as planned
from wily_sluice.plan.build_rules import RuleBuilder
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.terms import Party
from wily_sluice.units import (
    BYTE_TIME,
    DIRECTIONS,
    HIGHEST_RATE,
    MILLISECOND,
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
    leaves = sum(1 for _ in spec.leaves())

    def leaf_queue(leaf: QueueSpec, leaf_drop: Callable[[Packet], None]) -> LeafQueue:
        if leaf.leaf.refused:
            return Refusing(leaf_drop)
        limit, packet_limit, target = leaf_limit(leaf), leaf_packet_limit(leaf), leaf_target(leaf, spec.cap, leaves)
        if leaf.leaf.aqm == "fifo":
            return Fifo(leaf_drop, limit, packet_limit)
        if leaf.leaf.aqm == "codel":
            return Codel(leaf_drop, limit, packet_limit, target, leaf.leaf.ecn, leaf.largest)
        by_host = leaf.leaf.fair_by == "host"
        return FqCodel(leaf_drop, limit, packet_limit, target, by_host=by_host, ecn=leaf.leaf.ecn, largest=leaf.largest)

    return Tree(spec, drop, leaf_queue)


def leaf_limit(leaf: QueueSpec) -> Size:
    """How many bytes a leaf holds at most."""
    asked = leaf.leaf
    if asked.most_bytes is not None:
        return asked.most_bytes
    if asked.longest is not None:
        return leaf.cap * asked.longest // BYTE_TIME
    return max(FEWEST_BYTES, leaf.cap * LONGEST_WAIT // BYTE_TIME)


def leaf_packet_limit(leaf: QueueSpec) -> int:
    """How many packets a leaf holds at most."""
    return leaf.leaf.most_packets or MOST_PACKETS


def leaf_target(leaf: QueueSpec, line: Rate, leaves: int) -> Nanoseconds:
    """CoDel's target for a leaf, on a line of this rate with this number of leaves.

    It is 5 ms (RFC 8289 §4.3), or more on a slow queue: a target shorter than the transmission time of a full frame
    makes CoDel drop packets although there is no standing queue (RFC 8290 §5.2.2). A packet may find one frame ahead in
    its leaf and another leaf's frame on the line, and waits for both; the bound is their sum. The leaf's frame takes
    the leaf's lowest rate, which is its guarantee or an equal share of the line. `benchmarks/target.py` measures it.
    """
    slowest = max(leaf.guarantee, min(leaf.cap, line // leaves), 1)
    return max(TARGET, transmission_time(leaf.largest, slowest) + transmission_time(leaf.largest, max(line, 1)))


def open_schedules(plan: Plan, moment: datetime) -> int:
    """Which of a plan's schedules hold at a moment, as bits; a calendar may take its time to say so."""
    return sum(1 << index for index, schedule in enumerate(plan.schedules.values()) if schedule.holds(moment))


def homes_of(plan: Plan) -> dict[str, Home]:
    """The plan's networks by interface, for traffic from or to these interfaces."""
    return {network.interface: Home(network.name, network.addresses) for network in plan.networks}


def _named(party: Party | None) -> bool:
    return party is not None and bool(party.members.names)


def build_site(
    plan: Plan, drop: Callable[[Packet], None], behaviour: bool = False, crowded: bool = False
) -> SiteEngine:
    """All shapers of a plan's site. `drop` must not call back.

    With `behaviour`, how conversations behave is followed, asked for or not. With `crowded`, it is bounded how fast
    conversations may open.
    """
    builder = RuleBuilder(plan, Clock(), behaviour)
    asked = [rule.terms for rule in plan.sorting] + [limiter.terms for limiter in plan.limiters]
    asked += [route.terms for route in plan.routing]
    parts = [terms for rule in asked for terms in rule.walk()]
    watched = frozenset(hardware for terms in parts if terms.local for hardware in terms.local.members.hardware)
    apart = AddressSet(part for network in plan.networks if network.hosts == "address" for part in network.addresses)
    neighbours = Neighbours(watched, networks=[network.addresses for network in plan.networks], apart=apart)
    ledgers = {limiter.name: Ledger() for limiter in plan.limiters if limiter.quota and limiter.enabled}
    banks = {way: LimiterBank(_limiters(plan, way, ledgers), forward_to_tree, drop) for way in DIRECTIONS}
    specs = {(uplink.name, way): resolve(plan, uplink, way) for uplink in plan.uplinks for way in DIRECTIONS}
    shapers = {
        (uplink.name, way): Shaper(
            way,
            build_tree(specs[uplink.name, way], drop),
            builder.classifier(plan.tree(uplink, way), uplink.name, neighbours),
            banks[way],
            frozenset(n for n, lim in enumerate(plan.limiters) if lim.uplink not in (None, uplink.name)),
        )
        for uplink in plan.uplinks
        for way in DIRECTIONS
    }
    order = {name: index for index, name in enumerate(plan.schedules)}
    spec = SiteSpec(
        builder.clock,
        builder.kinds,
        plan.gate.keep_contacts is not None or any(terms.services or _named(terms.remote) for terms in parts),
        builder.watches_dscps,
        builder.watch,
        partial(open_schedules, plan),
        [order[limiter.when] if limiter.when is not None else -1 for limiter in plan.limiters],
        any(terms.when is not None for rule in plan.sorting for terms in rule.terms.walk()),
    )
    aggregate = AggregateFlow(tuple(homes_of(plan).values()), neighbours) if crowded else None
    return SiteEngine(spec, shapers, specs, banks, neighbours, aggregate, builder.router())


def _per(plan: Plan, per: Per) -> Per:
    """Who has a bucket; where each network has one, with the addresses of all networks."""
    if per.whom != "network":
        return per
    networks = ((*span, network.name.encode()) for network in plan.networks for span in network.addresses)
    return replace(per, networks=tuple(networks))


def limiter_spec(plan: Plan, limiter: planned.Limiter, direction: Direction) -> LimiterSpec | None:
    """A limiter in one direction; None if it does not cap that direction."""
    spec = limiter.spec(direction)
    return replace(spec, per=_per(plan, spec.per)) if spec is not None and spec.per.whom == "network" else spec


def _limiters(plan: Plan, direction: Direction, ledgers: Mapping[str, Ledger]) -> tuple[Limiter | None, ...]:
    """In the order of the plan; None for a limiter that does not cap this direction.

    A limiter with a quota is present in both directions, so that it counts both.
    """
    limiters: list[Limiter | None] = []
    for planned_limiter in plan.limiters:
        spec, ledger = limiter_spec(plan, planned_limiter, direction), ledgers.get(planned_limiter.name)
        if spec is None and ledger is not None:
            spec = LimiterSpec(planned_limiter.name, HIGHEST_RATE, _per(plan, planned_limiter.per))
        limiters.append(Limiter(spec, ledger) if spec is not None else None)
    return tuple(limiters)

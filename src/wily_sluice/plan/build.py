"""Compiles a plan into engine objects. The one place where the two meet."""

from collections.abc import Callable

from wily_sluice.engine.codel import TARGET, Codel
from wily_sluice.engine.conversation import ConversationTable
from wily_sluice.engine.fifo import Fifo
from wily_sluice.engine.fq_codel import MOST_PACKETS, FqCodel
from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.engine.leaf_queue import LeafQueue
from wily_sluice.engine.limiter import Limiter, LimiterBank
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.shaper import Shaper, forward_to_tree
from wily_sluice.engine.sorter import Match, Sorter
from wily_sluice.engine.spec import QueueSpec
from wily_sluice.engine.tree import Tree
from wily_sluice.plan import model as planned
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.units import BYTE_TIME, DIRECTIONS, MILLISECOND, Direction, Nanoseconds, Size, transmission_time

LONGEST_WAIT: Nanoseconds = 1000 * MILLISECOND  # of a leaf's backlog, at its cap
FEWEST_BYTES = 128 * LONGEST_FRAME


def build_sorter(plan: Plan, tree: planned.Tree) -> Sorter:
    """The plan's rules and limiters as matches, for one of its trees; leaves by their place in it."""
    index = {leaf.path: place for place, leaf in enumerate(tree.leaves)}
    default = index[tree.default.path]
    rules = tuple(
        (
            Match(
                local=rule.local.addresses if rule.local else None,
                remote=rule.remote.addresses if rule.remote else None,
                protocols=frozenset(rule.protocols) if rule.protocols else None,
                ports=rule.ports,
                dscps=sum(1 << dscp for dscp in set(rule.dscps)) if rule.dscps else None,
            ),
            index[rule.queues[tree.name]] if tree.name in rule.queues else default,
        )
        for rule in plan.rules
    )
    return Sorter(rules, default, tuple(Match(local=limiter.local.addresses) for limiter in plan.limiters))


def build_tree(spec: QueueSpec, drop: Callable[[Packet], None]) -> Tree:
    """A tree whose leaves hold packets as they are specified to."""
    leaves = sum(1 for _ in spec.leaves())

    def leaf_queue(leaf: QueueSpec, leaf_drop: Callable[[Packet], None]) -> LeafQueue:
        limit, most, target = leaf_limit(leaf), leaf_most(leaf), leaf_target(leaf, leaves)
        if leaf.leaf.aqm == "fifo":
            return Fifo(leaf_drop, limit, most)
        if leaf.leaf.aqm == "codel":
            return Codel(leaf_drop, limit, most, target, ecn=leaf.leaf.ecn)
        return FqCodel(leaf_drop, limit, most, target, by_host=leaf.leaf.fair_by == "host", ecn=leaf.leaf.ecn)

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


def leaf_target(leaf: QueueSpec, leaves: int) -> Nanoseconds:
    """What wait CoDel brings a leaf of a tree with so many leaves back to.

    On a slow queue one frame alone takes longer than the usual target (RFC 8289 §4.3), which would then drop packets
    that nobody could have sent sooner.
    """
    slowest = max(leaf.guarantee, leaf.cap // leaves, 1)
    return max(TARGET, 3 * transmission_time(leaf.largest, slowest) // 2)


class SiteEngine:
    """All shapers of a site, with the conversations and limiters that they share. `drop` must not call back."""

    def __init__(self, plan: Plan, drop: Callable[[Packet], None]) -> None:
        sorters = {name: build_sorter(plan, tree) for name, tree in plan.trees.items()}
        self.conversations = ConversationTable(watch_marks=any(sorter.watches_marks for sorter in sorters.values()))
        self.banks = {way: LimiterBank(_limiters(plan, way), forward_to_tree, drop) for way in DIRECTIONS}
        self.shapers = {
            (uplink.name, way): Shaper(
                way,
                build_tree(resolve(plan, uplink, way), drop),
                sorters[plan.tree(uplink, way).name],
                self.banks[way],
            )
            for uplink in plan.uplinks
            for way in DIRECTIONS
        }


def _limiters(plan: Plan, direction: Direction) -> tuple[Limiter | None, ...]:
    """In the order of the plan; None for one that does not cap this direction."""
    rates = ((limiter, limiter.rate(direction)) for limiter in plan.limiters)
    return tuple(Limiter(lim.name, rate, lim.per_host) if rate is not None else None for lim, rate in rates)

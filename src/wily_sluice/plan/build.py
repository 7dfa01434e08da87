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
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.units import BYTE_TIME, DIRECTIONS, MILLISECOND, Direction, Nanoseconds, transmission_time

LONGEST_WAIT: Nanoseconds = 1000 * MILLISECOND  # of a leaf's backlog, at its cap
FEWEST_BYTES = 128 * LONGEST_FRAME


def build_sorter(plan: Plan) -> Sorter:
    """The plan's rules and limiters as matches; leaves by their place in the tree."""
    index = {queue.path: place for place, queue in enumerate(plan.tree.leaves)}
    rules = tuple(
        (
            Match(
                local=rule.local.addresses if rule.local else None,
                remote=rule.remote.addresses if rule.remote else None,
                protocols=frozenset(rule.protocols) if rule.protocols else None,
                ports=rule.ports,
                dscps=sum(1 << dscp for dscp in set(rule.dscps)) if rule.dscps else None,
            ),
            index[rule.queue],
        )
        for rule in plan.rules
    )
    default = next(index[queue.path] for queue in plan.tree.leaves if queue.default)
    return Sorter(rules, default, tuple(Match(local=limiter.local.addresses) for limiter in plan.limiters))


def build_tree(spec: QueueSpec, drop: Callable[[Packet], None]) -> Tree:
    """A tree whose leaves hold packets as they are specified to."""
    leaves = sum(1 for _ in spec.leaves())

    def leaf_queue(leaf: QueueSpec, leaf_drop: Callable[[Packet], None]) -> LeafQueue:
        # On a slow queue one frame alone takes longer than CoDel's usual target (RFC 8289 §4.3), which would then
        # drop packets that nobody could have sent sooner.
        slowest = max(leaf.guarantee, leaf.cap // leaves, 1)
        target = max(TARGET, 3 * transmission_time(LONGEST_FRAME, slowest) // 2)
        asked = leaf.leaf
        if asked.most_bytes is not None:
            limit = asked.most_bytes
        elif asked.longest is not None:
            limit = leaf.cap * asked.longest // BYTE_TIME
        else:
            limit = max(FEWEST_BYTES, leaf.cap * LONGEST_WAIT // BYTE_TIME)
        most = asked.most_packets or MOST_PACKETS
        if asked.aqm == "fifo":
            return Fifo(leaf_drop, limit, most)
        if asked.aqm == "codel":
            return Codel(leaf_drop, limit, most, target)
        return FqCodel(leaf_drop, limit, most, target, by_host=asked.fair_by == "host")

    return Tree(spec, drop, leaf_queue)


class SiteEngine:
    """All shapers of a site, with the conversations and limiters that they share. `drop` must not call back."""

    def __init__(self, plan: Plan, drop: Callable[[Packet], None]) -> None:
        self.sorter = build_sorter(plan)
        self.conversations = ConversationTable(watch_marks=self.sorter.watches_marks)
        self.banks = {way: LimiterBank(_limiters(plan, way), forward_to_tree, drop) for way in DIRECTIONS}
        self.shapers = {
            (uplink.name, way): Shaper(way, build_tree(resolve(plan, uplink, way), drop), self.sorter, self.banks[way])
            for uplink in plan.uplinks
            for way in DIRECTIONS
        }


def _limiters(plan: Plan, direction: Direction) -> tuple[Limiter | None, ...]:
    """In the order of the plan; None for one that does not cap this direction."""
    rates = ((limiter, limiter.rate(direction)) for limiter in plan.limiters)
    return tuple(Limiter(lim.name, rate, lim.per_host) if rate is not None else None for lim, rate in rates)

"""Calculates every queue's guarantee and cap in bit/s, for one uplink in one direction.

A guarantee in percent refers to the parent's guarantee, a cap in percent to the parent's cap; both are the usable rate
at the root. The default guarantee is none, the default cap the parent's. Below a strict parent there are no guarantees;
that is the meaning of `strict`. A delay holds only below a curve parent, where there are no priorities.
"""

from dataclasses import replace

from wily_sluice.engine.packet import LARGEST_PACKET
from wily_sluice.engine.queueing.spec import USUAL_PRIORITY, Discipline, QueueSpec
from wily_sluice.plan.model import Plan, Queue, Uplink
from wily_sluice.units import Direction, Rate, Size


def guarantee_of(queue: Queue, direction: Direction, parent: Rate) -> Rate:
    """A queue's guarantee, under a parent with this guarantee."""
    amount = queue.guarantee.of(direction)
    return amount.of(parent) if amount is not None else 0


def cap_of(queue: Queue, direction: Direction, parent: Rate) -> Rate:
    """A queue's cap, under a parent with this cap; never above it, and at least 1."""
    amount = queue.cap.of(direction)
    return max(1, min(parent, amount.of(parent))) if amount is not None else parent


def resolve(plan: Plan, uplink: Uplink, direction: Direction) -> QueueSpec:
    """The tree of a plan without errors, for one uplink in one direction; its root has the empty path."""
    usable = uplink.usable(direction)
    tree = plan.tree(uplink, direction)
    largest = uplink.framing.cost(LARGEST_PACKET)
    refused = uplink.refuses
    top = tuple(_resolved(queue, direction, largest, tree.discipline, usable, usable, refused) for queue in tree.queues)
    return QueueSpec("", usable, usable, children=top, discipline=tree.discipline, largest=largest)


def _resolved(
    queue: Queue,
    direction: Direction,
    largest: Size,
    parent: Discipline,
    guarantee: Rate,
    cap: Rate,
    refused: frozenset[str],
) -> QueueSpec:
    """A queue below a parent of this discipline, guarantee and cap, with all below it; leaves with these paths are
    `refused`.
    """
    if queue.path in refused:
        leaf = replace(queue.leaf, delay=None, refused=True)
        return QueueSpec(queue.path, 0, 1, queue.priority, queue.weight, (), leaf, queue.discipline, largest)
    own_cap = cap_of(queue, direction, cap)
    own_guarantee = min(guarantee_of(queue, direction, guarantee), own_cap) if parent != "strict" else 0
    children = tuple(
        _resolved(child, direction, largest, queue.discipline, own_guarantee, own_cap, refused)
        for child in queue.children
    )
    leaf = queue.leaf if parent == "curve" else replace(queue.leaf, delay=None)
    return QueueSpec(
        queue.path,
        own_guarantee,
        own_cap,
        queue.priority if parent != "curve" else USUAL_PRIORITY,
        queue.weight,
        children,
        leaf,
        queue.discipline,
        largest,
    )

"""Why a queue gets its rate, and how long packets wait in it.

The reason for a queue's rate: the steps of the split, from the line down to the queue.

At each level: the part from its guarantee, its share of the rest at its priority's turn, and what limited it: its cap,
its own need, or the others.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.split import Share, split
from wily_sluice.plan.build import leaf_limit, leaf_packet_limit, leaf_target
from wily_sluice.units import BYTE_TIME, Nanoseconds, transmission_time

SLACK = 0.5  # bit/s: below this, nothing
Held = Literal["cap", "demand", "others", "nothing left"]


@dataclass(frozen=True, slots=True)
class Step:
    """One level. Rates in bit/s. `peers` are the siblings of its priority, `earlier` those who were offered before.

    Below a curve parent, where there are no priorities, all siblings are peers.
    """

    share: Share
    parent: Share
    extra: float
    curve: bool
    peers: tuple[Share, ...]
    earlier: tuple[Share, ...]
    held: Held


def why(path: str, shares: Mapping[str, Share]) -> list[Step]:
    """The steps that led to a queue's rate. ValueError when there is no such queue."""
    if path not in shares or not path:
        raise ValueError(f"no queue is called {path}")
    parts = path.split("/")
    chain = ["", *("/".join(parts[: depth + 1]) for depth in range(len(parts)))]
    return [_step(shares[lower], shares[upper], shares) for upper, lower in pairwise(chain)]


def _step(share: Share, parent: Share, shares: Mapping[str, Share]) -> Step:
    siblings = [shares[child.path] for child in parent.spec.children if child.path != share.spec.path]
    extra = share.rate - share.guaranteed
    curve = parent.spec.discipline == "curve"
    if share.rate >= share.want - SLACK:
        held: Held = "cap" if share.want >= share.spec.cap - SLACK else "demand"
    else:
        held = "others" if extra > SLACK else "nothing left"
    return Step(
        share,
        parent,
        extra,
        curve,
        tuple(sibling for sibling in siblings if curve or sibling.spec.priority == share.spec.priority),
        tuple(sibling for sibling in siblings if not curve and sibling.spec.priority < share.spec.priority),
        held,
    )


AT_LEAST = 2  # packets of a transfer that are under way, however slow the line


@dataclass(frozen=True, slots=True)
class Wait:
    """Times in ns. `promised` is the longest delay of a packet within the leaf's guarantee, if there is a promise.

    `settled` is the standing delay that CoDel allows a transfer that responds to losses or ECN marks: its target, or
    two largest packets at the leaf's rate, because TCP keeps at least that much in flight; None for a fifo, and for a
    leaf that is full before that. `full` is the time to empty a full leaf, the bound for unresponsive traffic; None if
    the leaf then gets nothing.
    """

    promised: Nanoseconds | None
    settled: Nanoseconds | None
    full: Nanoseconds | None


def waits(root: QueueSpec) -> dict[str, Wait]:
    """The waits of every leaf, by path."""
    shares = split(root, {})
    leaves = list(root.leaves())
    waits_by_path = {}
    for leaf in leaves:
        rate = shares[leaf.path].rate
        held = min(leaf_limit(leaf), leaf_packet_limit(leaf) * leaf.largest)
        promised = None
        if leaf.leaf.delay is not None and leaf.guarantee:
            promised = leaf.leaf.delay + transmission_time(leaf.largest, root.cap)
        full = settled = None
        if rate >= 1:
            full = round(held * BYTE_TIME / rate)
            standing = max(leaf_target(leaf, root.cap, len(leaves)), round(AT_LEAST * leaf.largest * BYTE_TIME / rate))
            if leaf.leaf.aqm != "fifo" and standing < full:
                settled = standing
        waits_by_path[leaf.path] = Wait(promised, settled, full)
    return waits_by_path

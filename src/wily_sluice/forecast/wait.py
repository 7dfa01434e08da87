"""How long a packet waits in a leaf when every leaf is hungry."""

from dataclasses import dataclass

from wily_sluice.engine.spec import QueueSpec
from wily_sluice.forecast.split import split
from wily_sluice.plan.build import leaf_limit, leaf_most, leaf_target
from wily_sluice.units import BYTE_TIME, Nanoseconds, transmission_time


@dataclass(frozen=True, slots=True)
class Wait:
    """Times in ns. `promised` is the longest wait of a packet inside the leaf's guarantee, where a delay is kept.

    `settled` is the standing wait that CoDel brings transfers to which heed a loss or a mark, None for a fifo. `full`
    is what a full leaf takes to empty, which is as long as traffic that heeds nothing can make it; None where the leaf
    then gets nothing at all.
    """

    promised: Nanoseconds | None
    settled: Nanoseconds | None
    full: Nanoseconds | None


def waits(root: QueueSpec) -> dict[str, Wait]:
    """The waits of every leaf, by path."""
    shares = split(root, {})
    leaves = list(root.leaves())
    found = {}
    for leaf in leaves:
        rate = shares[leaf.path].rate
        held = min(leaf_limit(leaf), leaf_most(leaf) * leaf.largest)
        promised = None
        if leaf.leaf.delay is not None and leaf.guarantee:
            promised = leaf.leaf.delay + transmission_time(leaf.largest, root.cap)
        settled = None if leaf.leaf.aqm == "fifo" else leaf_target(leaf, len(leaves))
        found[leaf.path] = Wait(promised, settled, round(held * BYTE_TIME / rate) if rate >= 1 else None)
    return found

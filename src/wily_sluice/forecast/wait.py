"""How long a packet waits in a leaf when every leaf is hungry."""

from dataclasses import dataclass

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.split import split
from wily_sluice.plan.build import leaf_limit, leaf_packet_limit, leaf_target
from wily_sluice.units import BYTE_TIME, Nanoseconds, transmission_time

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
    found = {}
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
        found[leaf.path] = Wait(promised, settled, full)
    return found

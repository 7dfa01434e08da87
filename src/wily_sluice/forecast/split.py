"""The exact split: the rate of each queue of a tree, in bit/s, on a full line.

A parent with C to divide first gives each child its need up to its guarantee. At a weighted parent, the rest is offered
to priority 1, then 2 and so on, and within a priority by weight, up to each child's need. A strict parent does the same
without guarantees. At a curve parent, all of C is divided by weight, but each child gets at least its need up to its
guarantee, and at most its need. A leaf needs its demand, at most its cap; a parent needs the sum of its children's
needs, at most its cap. This is a fluid model: the engine, which sends whole packets, reaches the same rates in the long
run.

Invariants: no queue gets more than it needs; a parent's children get in total what the parent gets; a queue gets its
need up to its guarantee.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import groupby, pairwise

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.units import Rate


@dataclass(frozen=True, slots=True)
class Share:
    """A queue's need and rate, in bit/s. `demand` is None for a queue with unlimited demand.

    Of its rate, `guaranteed` came from its guarantee; `offered` is the rest at its priority's turn.
    """

    spec: QueueSpec
    demand: Rate | None
    want: float
    rate: float
    guaranteed: float
    offered: float


def split(root: QueueSpec, demands: Mapping[str, Rate]) -> dict[str, Share]:
    """Every queue's share by path, the root's under the empty path. A leaf without a demand is hungry.

    Raises ValueError for a demand of a queue that is not a leaf of this tree.
    """
    leaves = {leaf.path for leaf in root.leaves()}
    for path in demands:
        if path not in leaves:
            raise ValueError(f"no leaf is called {path}; there are {', '.join(sorted(leaves))}")
    wants: dict[str, float] = {}
    _want(root, demands, wants)
    shares: dict[str, Share] = {}
    whole = wants[root.path]
    shares[root.path] = Share(root, _demand(root, demands), whole, whole, whole, 0.0)
    _divide(root, demands, wants, shares)
    return {spec.path: shares[spec.path] for spec in root.walk()}


def usable(spec: QueueSpec) -> Rate:
    """The most that a queue can ever carry: its cap, or what its leaves' caps add up to."""
    return min(spec.cap, sum(map(usable, spec.children))) if spec.children else spec.cap


def _demand(spec: QueueSpec, demands: Mapping[str, Rate]) -> Rate | None:
    """A leaf's own demand, or the sum of a parent's children, unless one has unlimited demand."""
    if not spec.children:
        return demands.get(spec.path)
    parts = [_demand(child, demands) for child in spec.children]
    return None if None in parts else sum(part for part in parts if part is not None)


def _want(spec: QueueSpec, demands: Mapping[str, Rate], wants: dict[str, float]) -> float:
    if spec.children:
        want = sum(_want(child, demands, wants) for child in spec.children)
    else:
        want = demands.get(spec.path, spec.cap)
    wants[spec.path] = min(want, spec.cap)
    return wants[spec.path]


def _divide(spec: QueueSpec, demands: Mapping[str, Rate], wants: Mapping[str, float], shares: dict[str, Share]) -> None:
    """Share out what `spec` got among its children, and so on down."""
    guaranteed = {child.path: min(wants[child.path], float(child.guarantee)) for child in spec.children}
    granted = dict(guaranteed)
    offered: dict[str, float] = {}
    # Of the line all is there to offer, though the queues may not be able to take it.
    spare = (shares[spec.path].rate if spec.path else float(spec.cap)) - sum(granted.values())
    if spec.discipline == "curve":
        offered = {child.path: max(spare, 0.0) for child in spec.children}
        _raise_level(spec.children, spare, wants, granted)
    else:
        by_priority = sorted(spec.children, key=lambda child: child.priority)
        for _, group in groupby(by_priority, key=lambda child: child.priority):
            peers = list(group)
            offered |= dict.fromkeys((peer.path for peer in peers), max(spare, 0.0))
            spare = _fill(peers, spare, wants, granted)
    for child in spec.children:
        path = child.path
        shares[path] = Share(
            child, _demand(child, demands), wants[path], granted[path], guaranteed[path], offered[path]
        )
        _divide(child, demands, wants, shares)


def _fill(peers: list[QueueSpec], spare: float, wants: Mapping[str, float], granted: dict[str, float]) -> float:
    """Divide `spare` among peers of one priority by weight, up to their needs; the remainder is returned.

    Children are satisfied in the order of need over weight, and each leaves its surplus to the others.
    """
    spare = max(spare, 0.0)
    weight = sum(peer.weight for peer in peers)
    for peer in sorted(peers, key=lambda peer: (wants[peer.path] - granted[peer.path]) / peer.weight):
        part = min(wants[peer.path] - granted[peer.path], spare * peer.weight / weight if weight > 0 else spare)
        granted[peer.path] += part
        spare -= part
        weight -= peer.weight
    return spare


def _raise_level(
    children: Sequence[QueueSpec], spare: float, wants: Mapping[str, float], granted: dict[str, float]
) -> None:
    """Divide `spare` so that all with further need reach the same level of rate over weight; those above it stay as
    they are.

    The level rises in steps, to the next height at which a child joins or is satisfied.
    """
    floor = {child.path: granted[child.path] / child.weight for child in children}
    ceiling = {child.path: wants[child.path] / child.weight for child in children}
    heights = sorted({*floor.values(), *ceiling.values()})
    for lower, upper in pairwise(heights):
        rising = [child for child in children if floor[child.path] <= lower and ceiling[child.path] >= upper]
        weight = sum(child.weight for child in rising)
        rise = min(upper - lower, max(spare, 0.0) / weight) if rising else 0.0
        for child in rising:
            granted[child.path] = child.weight * (lower + rise)
        spare -= rise * weight
        if rising and rise < upper - lower:
            return

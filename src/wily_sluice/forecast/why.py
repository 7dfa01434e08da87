"""The reason for a queue's rate: the steps of the split, from the line down to the queue.

At each level: the part from its guarantee, its share of the rest at its priority's turn, and what limited it: its cap,
its own need, or the others.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

from wily_sluice.forecast.split import Share

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

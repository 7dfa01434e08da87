"""A conversation's way through one shaper: its limiters' buckets, then its leaf.

It stays the same object while the way changes, so that what waits on it can be found and taken along.
"""

from typing import TYPE_CHECKING, Final

from wily_sluice.engine.tally import FlowTally

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.discipline import Onward

STALE: Final = -1


class Station:
    """Where packets wait at the end of a lane, as far as the lane knows it: a leaf of the tree, by its path."""

    __slots__ = ("path",)

    def __init__(self, path: str) -> None:
        self.path = path


class Lane:
    """`epoch` is the shaper's when it was worked out: in another it is worked out again, as is one that is STALE.

    `tally` counts what takes it, and knows which rule decided. Where rules tell packets of a conversation apart,
    `kinds` are the lanes of others than this one's. `buckets` are limiters' (`limit.limiter`). `flow` is the
    conversation's own queue in the leaf, `held` those in the buckets that it had to wait at: objects of the queue
    that keeps them.
    """

    __slots__ = ("buckets", "epoch", "flow", "held", "kinds", "leaf", "shaper", "tally")

    def __init__(
        self,
        shaper: "Onward",
        buckets: tuple[object, ...],
        leaf: Station,
        tally: FlowTally,
        epoch: int = 0,
    ) -> None:
        self.shaper = shaper
        self.buckets = buckets
        self.leaf = leaf
        self.tally = tally
        self.epoch = epoch
        self.kinds: dict[int, Lane] | None = None
        self.flow: object | None = None
        self.held: list[object | None] | None = None

    @property
    def rule(self) -> int:
        """The index of the rule that decided, or -1."""
        return self.tally.index

    def flow_at(self, stage: int) -> object | None:
        """The conversation's queue where its packets are that have passed `stage` limiters."""
        if stage == len(self.buckets):
            return self.flow
        return self.held[stage] if self.held is not None else None

    def set_flow(self, stage: int, flow: object) -> None:
        """Keep it for the next packet."""
        if stage == len(self.buckets):
            self.flow = flow
        else:
            if self.held is None:
                self.held = [None] * len(self.buckets)
            self.held[stage] = flow

"""A conversation's path through one shaper: its limiters' buckets, then its leaf.

The object stays the same while the path changes, so that queued packets can be found and moved.
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
    """`epoch` is the shaper's when the path was computed. In another epoch, or if STALE, it is computed again.

    `tally` counts its packets, and knows the deciding rule. If rules distinguish packets of a conversation, `kinds` has
    the lanes of the other kinds. `buckets` are limiters' (`limit.limiter`). `flow` is the conversation's queue in the
    leaf, `held` its queues in buckets: objects of those queues.
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

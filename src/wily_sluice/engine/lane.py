"""A conversation's way through one shaper, worked out once: its limiters' buckets, then its leaf."""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wily_sluice.engine.fq_codel import Flow
    from wily_sluice.engine.limiter import Bucket
    from wily_sluice.engine.shaper import Shaper
    from wily_sluice.engine.tree import Leaf


class Lane:
    """`flows` are the conversation's own queues: one for each bucket that it may have to wait at, then the leaf's."""

    __slots__ = ("buckets", "flows", "leaf", "shaper")

    def __init__(self, shaper: "Shaper", buckets: "tuple[Bucket, ...]", leaf: "Leaf") -> None:
        self.shaper = shaper
        self.buckets = buckets
        self.leaf = leaf
        self.flows: list[Flow | None] = [None] * (len(buckets) + 1)

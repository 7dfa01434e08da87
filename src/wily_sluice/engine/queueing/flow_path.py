"""A conversation's path through one shaper: its limiters' buckets, then its leaf; and the interface of the shaper.

The object stays the same while the path changes, so that queued packets can be found and moved.
"""

from typing import Final

from wily_sluice.engine.limit.meters import Utilisation
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.tally import FlowTally
from wily_sluice.units import Nanoseconds


class QueueingDiscipline:
    """Three calls, and all that happens to a packet is behind them."""

    def offer(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in."""
        raise NotImplementedError

    def release(self, now: Nanoseconds) -> Packet | None:
        """The packet to send now, if there is one."""
        raise NotImplementedError

    def next_release(self, now: Nanoseconds) -> Nanoseconds | None:
        """When `release` may next have one, if none is offered before; None when there is none."""
        raise NotImplementedError


class Onward(QueueingDiscipline):
    """The part of a shaper that its limiters and flow paths use: packets past the limiters are queued here.

    `answered` is when the latest packet left that is known to have had an answer from beyond the line, `asked` when the
    latest left whose answer would be known. `heard` and `spoke` are the same for plain datagrams, where what comes back
    may be a stream that goes on by itself.
    """

    answered: Nanoseconds = 0
    asked: Nanoseconds = 0
    heard: Nanoseconds = 0
    spoke: Nanoseconds = 0

    def enter_tree(self, packet: Packet, now: Nanoseconds) -> None:
        """Take in a packet that is past its limiters."""
        raise NotImplementedError

    def readmit(self, packets: list[Packet], now: Nanoseconds) -> None:
        """Take packets that are past their limiters to where their conversations are now sorted to."""
        raise NotImplementedError

    def passed(self, excess: Nanoseconds) -> None:
        """Take note of how much longer a round trip beyond the line took than the shortest of its conversation."""

    def watch_utilisation(self) -> Utilisation:
        """Start measuring how busy the line is."""
        raise NotImplementedError


STALE: Final = -1


class Station:
    """Where packets wait at the end of a flow path, as far as it knows: a leaf of the tree, by the leaf's path."""

    __slots__ = ("path",)

    def __init__(self, path: str) -> None:
        self.path = path


class FlowPath:
    """`epoch` is the shaper's when the path was computed. In another epoch, or if STALE, it is computed again.

    `tally` counts its packets, and knows the deciding rule. If rules distinguish packets of a conversation, `kinds` has
    the flow paths of the other kinds. `buckets` are limiters' (`limit.limiter`). `flow` is the conversation's queue in
    the leaf, `held` its queues in buckets: objects of those queues.
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
        self.kinds: dict[int, FlowPath] | None = None
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

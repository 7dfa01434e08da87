"""The queue of a leaf or of a limiter's bucket."""

from collections.abc import Callable
from typing import TYPE_CHECKING

from wily_sluice.engine.packet import Packet
from wily_sluice.units import Nanoseconds, Size

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.lane import Lane


class LeafQueue:
    """`backlog` and `length` are the bytes and packets that stand here, `limit` and `packet_limit` how many may.

    What does not fit, or has stood too long, is handed to `drop`, which must not call back.
    """

    __slots__ = ("_drop", "backlog", "length", "limit", "packet_limit")

    def __init__(self, drop: Callable[[Packet], None], limit: Size, packet_limit: int) -> None:
        self._drop = drop
        self.limit = limit
        self.packet_limit = packet_limit
        self.backlog: Size = 0
        self.length = 0

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take in a packet whose lane is set."""
        raise NotImplementedError

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The next packet to send; None when there is none, or the last was dropped."""
        raise NotImplementedError

    def reconfigure(self, other: "LeafQueue") -> bool:
        """Hold packets from now on as `other`, a new one, would; False where that takes one of another kind."""
        raise NotImplementedError

    def withdraw(self, lane: "Lane") -> list[Packet]:
        """Remove the packets of a lane, in order."""
        raise NotImplementedError

    def drain(self) -> list[Packet]:
        """Remove all packets, in order of arrival, without drops."""
        raise NotImplementedError

    def dissolve(self) -> None:
        """End the use of an empty queue, without leaving a reference cycle."""

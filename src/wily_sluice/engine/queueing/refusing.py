"""A leaf of a queue that an uplink refuses: it drops every packet.

It remembers their conversations, so that the caller can route these elsewhere.
"""

from collections.abc import Callable
from typing import TYPE_CHECKING, Final

from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.leaf_queue import LeafQueue
from wily_sluice.units import Nanoseconds

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.lane import Lane

MOST_REFUSED: Final = 64


class Refusing(LeafQueue):
    """`refused` are keys of conversations, until the caller takes them."""

    __slots__ = ("refused",)

    def __init__(self, drop: Callable[[Packet], None]) -> None:
        super().__init__(drop, 0, 0)
        self.refused: set[bytes] = set()

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Drop a packet."""
        if len(self.refused) < MOST_REFUSED:
            self.refused.add(packet.conversation.key)
        self._drop(packet)

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """Nothing."""
        return None

    def reconfigure(self, other: LeafQueue) -> bool:
        """Continue, if the other also refuses."""
        return isinstance(other, Refusing)

    def withdraw(self, lane: "Lane") -> list[Packet]:
        """Nothing."""
        return []

    def drain(self) -> list[Packet]:
        """Nothing."""
        return []

    def take_refused(self) -> list[bytes]:
        """The conversations that were refused since the last call."""
        refused, self.refused = sorted(self.refused), set()
        return refused

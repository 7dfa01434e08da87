"""The interface of a shaper, and of a line without a plan."""

from wily_sluice.engine.limit.utilisation import Utilisation
from wily_sluice.engine.packet import Packet
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
    """The part of a shaper that its limiters and lanes use: packets past the limiters are queued here.

    `answered` is when the latest packet left that is known to have had an answer from beyond the line.
    """

    answered: Nanoseconds = 0

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

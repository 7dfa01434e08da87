"""What packets wait in, as whoever moves them sees it: a shaper, or a line that is not shaped."""

from wily_sluice.engine.packet import Packet
from wily_sluice.units import Nanoseconds


class Discipline:
    """Three calls, and all that happens to a packet is behind them."""

    def offer(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in."""
        raise NotImplementedError

    def release(self, now: Nanoseconds) -> Packet | None:
        """The packet to let go now, if there is one."""
        raise NotImplementedError

    def next_release(self, now: Nanoseconds) -> Nanoseconds | None:
        """When `release` may next have one, if none is offered before; None when there is none."""
        raise NotImplementedError

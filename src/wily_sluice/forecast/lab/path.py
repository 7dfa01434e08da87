"""Simulated time, and the ways between the hosts and the far side.

The ways between the hosts and the far side: the bare line, one that fails, and either with the plan's shaper before.

Toward the internet a packet passes the shaper and then the line; toward the hosts the line and then the shaper, as on
a real gateway. The local network between shaper and hosts takes no time here.
"""

from collections.abc import Callable
from typing import Protocol

from wily_sluice.engine.line import Line
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.shaper import Shaper
from wily_sluice.forecast.lab.events import Events
from wily_sluice.forecast.lab.uplinks import Outage
from wily_sluice.units import Nanoseconds, Size

Deliver = Callable[[Packet], None]


def deliver(packet: Packet) -> None:
    """Hand a packet to its recipient: its token begins with that call."""
    packet.token[0](packet)


class Path(Protocol):
    """One direction of an uplink."""

    def send(self, packet: Packet) -> None:
        """Send a packet on its way; it is delivered, later, or lost."""


class BareLine:
    """The line as it is, without a gateway that shapes."""

    def __init__(self, events: Events, line: Line, onward: Deliver = deliver) -> None:
        self._events = events
        self._line = line
        self._onward = onward

    def send(self, packet: Packet) -> None:
        """Send a packet down the line."""
        events = self._events
        arrival = self._line.transmit(packet.size, events.now)
        if arrival is not None:
            events.at(arrival, self._onward, packet)


class FailingLine(BareLine):
    """A line that carries nothing while it has failed."""

    def __init__(self, events: Events, line: Line, outage: Outage, onward: Deliver = deliver) -> None:
        super().__init__(events, line, self._arrive)
        self._outage = outage
        self._there = onward

    def send(self, packet: Packet) -> None:
        """Send a packet down the line, if it carries anything."""
        if not self._outage.cut:
            super().send(packet)

    def _arrive(self, packet: Packet) -> None:
        if not self._outage.cut:
            self._there(packet)


def without_plan(events: Events, line: Line, outage: Outage | None, onward: Deliver = deliver) -> Path:
    """The line as it is; `outage` is that of one that fails."""
    return BareLine(events, line, onward) if outage is None else FailingLine(events, line, outage, onward)


class ShapedBy:
    """A shaper driven by simulated time; it sends `onward` the packets it releases: `released` bytes at their cost on
    the line.
    """

    def __init__(self, events: Events, shaper: Shaper, onward: Deliver) -> None:
        self._events = events
        self._shaper = shaper
        self._onward = onward
        self._wake: Nanoseconds | None = None
        self.released: Size = 0

    def send(self, packet: Packet) -> None:
        """Offer a packet to the shaper."""
        self._shaper.offer(packet, self._events.now)
        # While a wake is set for as soon as the shaper can release anything, nothing is left to do.
        if self._wake is None or self._wake > self._shaper.free_at:
            self._release()

    def _release(self) -> None:
        now = self._events.now
        shaper = self._shaper
        while (due := shaper.next_release(now)) is not None:
            if due > now:
                if self._wake is None or due < self._wake:
                    self._wake = due
                    self._events.at(due, self._woken)
                return
            if (packet := shaper.release(now)) is not None:
                self.released += packet.size
                self._onward(packet)

    def _woken(self, _: object) -> None:
        if self._wake == self._events.now:
            self._wake = None
            self._release()


def shaped_up(events: Events, shaper: Shaper, line: Line, outage: Outage | None) -> Path:
    """Hosts → shaper → line → far side."""
    return ShapedBy(events, shaper, without_plan(events, line, outage).send)


def shaped_down(events: Events, line: Line, outage: Outage | None, behind: ShapedBy) -> Path:
    """Far side → line → shaper → hosts."""
    return without_plan(events, line, outage, behind.send)

"""The event loop of the live world: packets in from the kernel's queue, through a shaper or a line, verdicts out.

Time is the machine's monotonic clock, read once a turn. A turn: wait for packets or for the next release, take in
what came, let go what is due, send the verdicts.
"""

import os
import select
import time
from collections.abc import Callable, Sequence
from typing import Final, Protocol

from mypy_extensions import mypyc_attr

from wily_sluice.engine.discipline import Discipline
from wily_sluice.engine.packet import Packet
from wily_sluice.gate.diversion import wishes
from wily_sluice.gate.packet_queue import MOST_WAITING, Diverted, PacketQueue
from wily_sluice.units import SECOND, Nanoseconds

BATCH: Final = 128  # packets taken in from one queue before what is due is let go
LONGEST_SLEEP: Final[Nanoseconds] = SECOND


@mypyc_attr(allow_interpreted_subclasses=True)
class Entrance:
    """Makes packets of what was diverted."""

    def admit(self, diverted: Diverted, now: Nanoseconds) -> Packet | None:
        """A packet, its token what was diverted; None for one that is let go at once."""
        raise NotImplementedError


class Crossing:
    """One queue of the kernel's, by which entrance its packets come in, and what they wait in.

    `opening` is another queue, for the first packets of each conversation, which are copied whole.
    """

    __slots__ = ("discipline", "entrance", "opening", "queue")

    def __init__(
        self, queue: PacketQueue, discipline: Discipline, entrance: Entrance, opening: PacketQueue | None = None
    ) -> None:
        self.queue = queue
        self.discipline = discipline
        self.entrance = entrance
        self.opening = opening

    @property
    def queues(self) -> tuple[PacketQueue, ...]:
        """One, or both."""
        return (self.queue,) if self.opening is None else (self.opening, self.queue)


class Listener:
    """A queue of packets that are heard and let go at once."""

    __slots__ = ("hear", "queue")

    def __init__(self, queue: PacketQueue, hear: Callable[[bytes, Nanoseconds], None]) -> None:
        self.queue = queue
        self.hear = hear

    def turn(self) -> None:
        """Hear what has come."""
        now = time.monotonic_ns()
        for diverted in self.queue.read(BATCH):
            self.queue.accept(diverted.token)
            self.hear(diverted.header, now)
        self.queue.flush()


class Reader(Protocol):
    """Something else that may have to be read."""

    def fileno(self) -> int:
        """For select."""

    def turn(self) -> None:
        """Read what has come."""


class Loop:
    """Turns until `stop` is called, which a signal handler may do; `wake` is a readable end that signals write to.

    Crossings and listeners may be replaced between turns, and so by what a turn calls: then call `changed`. `tick` is
    called every `pace` nanoseconds, `woken` when something was written to the other end of `wake`.
    """

    def __init__(
        self,
        crossings: Sequence[Crossing],
        wake: int,
        tick: Callable[[], None] | None = None,
        listeners: Sequence[Listener] = (),
        others: Sequence[Reader] = (),
        woken: Callable[[], None] | None = None,
    ) -> None:
        self._woken = woken
        self.crossings = crossings
        self.listeners = listeners
        self.others = others
        self.pace: Nanoseconds = SECOND
        self._wake = wake
        self._tick = tick
        self._stopped = False
        self._readers: list[int | PacketQueue | Reader] = []

    def stop(self) -> None:
        """End after the current turn."""
        self._stopped = True

    def changed(self) -> None:
        """Take account of other crossings, listeners or readers."""
        self._readers = [self._wake, *(listener.queue for listener in self.listeners), *self.others]
        for crossing in self.crossings:
            self._readers += crossing.queues

    def run(self) -> None:
        """Turn until stopped."""
        self.changed()
        next_tick = time.monotonic_ns() + self.pace
        while not self._stopped:
            now = time.monotonic_ns()
            wake_at = min(now + LONGEST_SLEEP, next_tick)
            for crossing in self.crossings:
                due = crossing.discipline.next_release(now)
                if due is not None and due < wake_at:
                    wake_at = due
            readable, _, _ = select.select(self._readers, (), (), max(0, wake_at - time.monotonic_ns()) / SECOND)
            for listener in self.listeners:
                if listener.queue in readable:
                    listener.turn()
            for crossing in self.crossings:
                self._turn(crossing, readable)
            if readable and self._wake in readable:
                os.read(self._wake, 4096)
                if self._woken is not None:
                    self._woken()
            for other in self.others:
                if other in readable:
                    other.turn()
            now = time.monotonic_ns()
            if now >= next_tick:
                next_tick = max(next_tick + self.pace, now)
                if self._tick is not None:
                    self._tick()

    def _turn(self, crossing: Crossing, readable: Sequence[object]) -> None:
        discipline, entrance, opening = crossing.discipline, crossing.entrance, crossing.opening
        arrived: list[Diverted] = []
        if crossing.queue in readable:
            arrived = crossing.queue.read(BATCH)
        if opening is not None and (arrived or opening in readable):
            # A conversation's first packets are all here by now, if one behind them is: so they are not overtaken.
            arrived = opening.read(MOST_WAITING) + arrived
        now = time.monotonic_ns()
        for one in arrived:
            packet = entrance.admit(one, now)
            if packet is None:
                one.queue.accept(one.token)
            else:
                discipline.offer(packet, now)
        while (packet := discipline.release(now)) is not None:
            diverted: Diverted = packet.token
            if packet.marked or packet.dscp >= 0:
                diverted.queue.accept_marked(diverted.token, diverted.mark | wishes(packet.marked, packet.dscp))
            else:
                diverted.queue.accept(diverted.token)
        for queue in crossing.queues:
            queue.flush()

"""The event loop of the live world: packets in from the kernel's queue, through a shaper or a line, verdicts out.

Time is the machine's monotonic clock, read once a turn. A turn: wait for packets or for the next release, take in
what came, let go what is due, send the verdicts. However much comes, a turn takes in and lets go only so many packets,
so that none waits for a crowd of others: what is left is for the next turn.

The first packets of conversations come by a queue of their own and cost more. They are taken in behind the packets of
conversations that are past that, so a flood of new ones does not delay the others: what is too much waits in a room of
its own (`openings`). A packet of a conversation that is not yet `settled` is held until nothing that came before it can
still stand in the other queue or in that room, so none is overtaken. Where there is one queue for all, packets that
open conversations are set apart here, when more come than a turn takes in.
"""

import os
import select
import time
from collections.abc import Callable, Sequence
from typing import Final, Protocol

from mypy_extensions import mypyc_attr

from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.discipline import QueueingDiscipline
from wily_sluice.gate.kernel.diversion import wishes
from wily_sluice.gate.kernel.packet_queue import Diverted, PacketQueue
from wily_sluice.gate.openings import Openings
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Size

BATCH: Final = 64  # packets taken in from one queue in a turn
FIRST_BATCH: Final = 16  # of those by which conversations open
MOST_READ: Final = 128  # packets read, of which some may have to wait
RELEASES: Final = 128  # packets let go in a turn
MOST_HELD: Final = 4096  # packets that are held since others may have to go before them
LONGEST_HELD: Final[Nanoseconds] = 50 * MILLISECOND  # for so long; then they go all the same
# The kernel stops a process of real-time priority for 50 ms when it has worked for 950 ms of a second (sched(7)). So
# the loop pauses by itself, for a short while at a time, before that happens.
WINDOW: Final[Nanoseconds] = 10 * MILLISECOND
AT_MOST: Final[Nanoseconds] = 9_300_000
BREATH: Final = 0.0006  # seconds
LATE: Final[Nanoseconds] = 2 * MILLISECOND  # a turn that takes longer is counted
LONGEST_SLEEP: Final[Nanoseconds] = SECOND


@mypyc_attr(allow_interpreted_subclasses=True)
class Entrance:
    """Makes packets of what was diverted."""

    def admit(self, diverted: Diverted, now: Nanoseconds) -> Packet | None:
        """A packet, its token what was diverted; None for one that is let go at once."""
        raise NotImplementedError

    def opens(self, diverted: Diverted, openings: Openings) -> bytes:
        """The key of the conversation that a packet would open, or whose packets wait already; empty for others."""
        return b""


class Crossing:
    """One queue of the kernel's, by which entrance its packets come in, and what they wait in.

    `opening` is another queue, for the first packets of each conversation, which are copied whole; `openings` is where
    those wait that are too many. `held` are packets that may have to wait for others there, the first of them since
    `held_since`; the first `settled` of them until so many have left their queue of that room as their `stage`
    says, the others until the other queue of the kernel has been empty. `up` says that the senders are the local
    parties. `sent` bytes of IP, in so many `packets`, were let go.
    """

    __slots__ = (
        "discipline", "entrance", "held", "held_since", "opening", "openings", "packets", "queue", "sent", "settled",
    )  # fmt: skip

    def __init__(
        self,
        queue: PacketQueue,
        discipline: QueueingDiscipline,
        entrance: Entrance,
        opening: PacketQueue | None = None,
        up: bool = True,
    ) -> None:
        self.queue = queue
        self.discipline = discipline
        self.entrance = entrance
        self.opening = opening
        self.openings = Openings(up)
        self.held: list[Packet] = []
        self.held_since: Nanoseconds = 0
        self.settled = 0
        self.sent: Size = 0
        self.packets = 0

    @property
    def queues(self) -> tuple[PacketQueue, ...]:
        """One, or both."""
        return (self.queue,) if self.opening is None else (self.opening, self.queue)


class Listener:
    """A queue of packets that are heard and let go at once: with the mark that `hear` returns, unless that is -1."""

    __slots__ = ("hear", "queue")

    def __init__(self, queue: PacketQueue, hear: Callable[[Diverted, Nanoseconds], int]) -> None:
        self.queue = queue
        self.hear = hear

    def turn(self) -> None:
        """Hear what has come."""
        now = time.monotonic_ns()
        for diverted in self.queue.read(BATCH):
            mark = self.hear(diverted, now)
            if mark < 0:
                self.queue.accept(diverted.token)
            else:
                self.queue.accept_marked(diverted.token, mark)
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
    called every `pace` nanoseconds, `woken` when something was written to the other end of `wake`. `chore`, where there
    is one, is called in every turn, and does a little of something long, until it says that it is done.
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
        self.beat: Callable[[], None] | None = None  # is called every `beat_pace`, beside the tick
        self.beat_pace: Nanoseconds = SECOND
        self._wake = wake
        self._tick = tick
        self._stopped = False
        self.chore: Callable[[], bool] | None = None
        self._era = 1  # of the queues: what is settled in one may not be in the next
        self.longest: Nanoseconds = 0  # turn, since somebody set it to 0
        self.late = 0  # turns that took longer than LATE
        self.shed = 0  # packets that would have opened conversations, and were dropped since there were too many
        self.worked: Nanoseconds = 0  # not asleep, in all
        self._readers: list[int | PacketQueue | Reader] = []

    def stop(self) -> None:
        """End after the current turn."""
        self._stopped = True

    def changed(self) -> None:
        """Take account of other crossings, listeners or readers. What is held stays held."""
        self._era += 1
        self._readers = [self._wake, *(listener.queue for listener in self.listeners), *self.others]
        for crossing in self.crossings:
            self._readers += crossing.queues

    def let_in(self) -> None:
        """Release what is held for others; before crossings are replaced. Of a crowd, most is dropped."""
        now = time.monotonic_ns()
        for crossing in self.crossings:
            self._take_openings(crossing, MOST_READ, now)
            crossing.openings.drop_all()
            self.shed += crossing.openings.shed
            crossing.openings.shed = 0
            for packet in crossing.held:
                packet.stage = 0
                crossing.discipline.offer(packet, now)
            crossing.held, crossing.settled = [], 0

    def run(self) -> None:
        """Turn until stopped."""
        self.changed()
        next_tick = time.monotonic_ns() + self.pace
        next_beat = time.monotonic_ns()
        window = used = 0
        while not self._stopped:
            now = time.monotonic_ns()
            wake_at = min(now + LONGEST_SLEEP, next_tick) if self.chore is None else now
            if self.beat is not None and next_beat < wake_at:
                wake_at = max(now, next_beat)
            for crossing in self.crossings:
                due = crossing.discipline.next_release(now)
                if due is not None and due < wake_at:
                    wake_at = due
                if crossing.held or crossing.openings.waiting:
                    wake_at = now
            readable, _, _ = select.select(self._readers, (), (), max(0, wake_at - time.monotonic_ns()) / SECOND)
            begun = time.monotonic_ns()
            if begun >= window:
                # By the processor's time: what the kernel does for us before a call returns counts for it as well.
                window, used = begun + WINDOW, time.thread_time_ns()
            for listener in self.listeners:
                if listener.queue in readable:
                    listener.turn()
            for crossing in self.crossings:
                self._turn(crossing, readable)
            for crossing in self.crossings:  # several may lead to one discipline, which releases what came by others
                for queue in crossing.queues:
                    queue.flush()
            if readable and self._wake in readable:
                os.read(self._wake, 4096)
                if self._woken is not None:
                    self._woken()
            for other in self.others:
                if other in readable:
                    other.turn()
            if self.chore is not None and self.chore():
                self.chore = None
            now = time.monotonic_ns()
            if self.beat is not None and now >= next_beat:
                next_beat = max(next_beat + self.beat_pace, now)
                self.beat()
                now = time.monotonic_ns()
            if now >= next_tick:
                next_tick = max(next_tick + self.pace, now)
                if self._tick is not None:
                    self._tick()
                now = time.monotonic_ns()
            self.worked += now - begun
            if time.thread_time_ns() - used >= AT_MOST:
                time.sleep(BREATH)
                window = 0
            if now - begun > LATE:
                self.late += 1
            if now - begun > self.longest:
                self.longest = now - begun

    def _turn(self, crossing: Crossing, readable: Sequence[object]) -> None:
        discipline, entrance, opening = crossing.discipline, crossing.entrance, crossing.opening
        arrived: list[Diverted] = []
        if crossing.queue in readable:
            arrived = crossing.queue.read(BATCH)
        if opening is not None:
            self._take_both(crossing, opening, arrived, opening in readable)
        else:
            many = len(arrived) == BATCH or crossing.openings.waiting > 0
            if many and len(arrived) == BATCH:
                arrived += crossing.queue.read(MOST_READ - BATCH)
            now = time.monotonic_ns()
            for one in arrived:
                key = entrance.opens(one, crossing.openings) if many else b""
                if key:
                    crossing.openings.put(one, key)
                    continue
                packet = entrance.admit(one, now)
                if packet is None:
                    one.queue.accept(one.token)
                else:
                    discipline.offer(packet, now)
            self._take_openings(crossing, FIRST_BATCH, now)
        if crossing.openings.shed:
            self.shed += crossing.openings.shed
            crossing.openings.shed = 0
        now = time.monotonic_ns()
        for _ in range(RELEASES):
            packet = discipline.release(now)
            if packet is None:
                break
            diverted: Diverted = packet.token
            crossing.sent += packet.length
            crossing.packets += 1
            probe = packet.conversation.probe
            if probe is not None and probe.token is diverted:
                probe.left(now)
            if packet.marked or packet.dscp >= 0:
                mark = diverted.fwmark | wishes(packet.marked, packet.dscp)
                diverted.queue.accept_marked(diverted.token, mark, again=not diverted.inside)
            else:
                diverted.queue.accept(diverted.token)
        for queue in crossing.queues:
            queue.flush()

    def _take_openings(self, crossing: Crossing, limit: int, now: Nanoseconds) -> None:
        """Take in some of the packets that wait to open conversations."""
        openings = crossing.openings
        for _ in range(min(limit, openings.waiting)):
            one = openings.take()
            packet = crossing.entrance.admit(one, now)
            if packet is None:
                one.queue.accept(one.token)
            else:
                crossing.discipline.offer(packet, now)

    def _take_both(self, crossing: Crossing, opening: PacketQueue, arrived: list[Diverted], readable: bool) -> None:
        """Take in what came by a queue, and some of what came by that of first packets."""
        discipline, entrance, held = crossing.discipline, crossing.entrance, crossing.held
        now = time.monotonic_ns()
        unsettled: list[Packet] = []
        for one in arrived:
            packet = entrance.admit(one, now)
            if packet is None:
                one.queue.accept(one.token)
            elif packet.conversation.settled == self._era:
                discipline.offer(packet, now)
            else:
                unsettled.append(packet)
        openings = crossing.openings
        if not (readable or unsettled or held or openings.waiting):
            return
        first = opening.read(MOST_READ)
        for one in first:
            openings.put(one, b"")
        if unsettled and not held:
            crossing.held_since = now
        held += unsettled
        if len(first) < MOST_READ:
            for packet in held[crossing.settled :]:
                packet.stage = openings.entered(openings.slot(packet.token))
            crossing.settled = len(held)
        self._take_openings(crossing, FIRST_BATCH, now)
        if not held:
            return
        if len(held) > MOST_HELD or now - crossing.held_since > LONGEST_HELD:
            kept: list[Packet] = []
            passed = held
        else:
            kept, passed = [], []
            for index, packet in enumerate(held):
                before = index < crossing.settled and openings.taken(openings.slot(packet.token)) >= packet.stage
                (passed if before else kept).append(packet)
        waits = {packet.conversation.key for packet in kept}
        for packet in passed:
            if packet.conversation.key not in waits:
                packet.conversation.settled = self._era
            packet.stage = 0
            discipline.offer(packet, now)
        if len(kept) < len(held):
            crossing.settled = max(0, crossing.settled - len(passed))
            crossing.held = kept

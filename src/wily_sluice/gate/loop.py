"""The event loop of the live world: packets in from the kernel's queue, through a shaper or a line, verdicts out.

Time is the machine's monotonic clock, read once a turn. A turn: wait for packets or the next release, take in new
packets, release those that are due, send the verdicts. The number of packets per turn is limited, so that no packet
waits for many others; the rest is left for the next turn.

The first packets of conversations have a separate queue and take longer to process. Packets of established
conversations are taken first, so that a flood of new ones does not delay them; the excess waits in `new_flows`. A
packet of a conversation that is not yet `settled` is held while an earlier one may still be in the other queue or in
`new_flows`, so the order is kept. With a single queue, packets that open conversations are set apart here when more
arrive than fit into a turn.
"""

import os
import select
import time
from collections.abc import Callable, Sequence
from typing import Final, Protocol

from mypy_extensions import mypyc_attr

from wily_sluice.engine.conversations.round_trips import PLAIN
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.flow_path import QueueingDiscipline
from wily_sluice.gate.kernel.diversion import wishes
from wily_sluice.gate.kernel.packet_queue import PacketQueue, QueuedPacket
from wily_sluice.gate.kernel.process import Heart
from wily_sluice.gate.overload import NewFlows
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Size

BATCH: Final = 64  # packets taken in from one queue in a turn
FIRST_BATCH: Final = 16  # of packets that open conversations
MOST_READ: Final = 128  # packets read; some of them may have to wait
RELEASES: Final = 128  # packets let go in a turn
MOST_HELD: Final = 4096  # packets held, since earlier ones may still be elsewhere
LONGEST_HELD: Final[Nanoseconds] = 50 * MILLISECOND  # after which they are released anyway
# The kernel stops a process of real-time priority for 50 ms when it has worked for 950 ms of a second (sched(7)). So
# the loop pauses by itself, for a short while at a time, before that happens.
WINDOW: Final[Nanoseconds] = 10 * MILLISECOND
AT_MOST: Final[Nanoseconds] = 9_300_000
BREATH: Final = 0.0006  # seconds
LATE: Final[Nanoseconds] = 2 * MILLISECOND  # a turn that takes longer is counted
LONGEST_SLEEP: Final[Nanoseconds] = 400 * MILLISECOND


@mypyc_attr(allow_interpreted_subclasses=True)
class Entrance:
    """Makes packets from diverted ones."""

    def admit(self, diverted: QueuedPacket, now: Nanoseconds) -> Packet | None:
        """A packet, with the diverted one as its token; None if that is released at once."""
        raise NotImplementedError

    def opens(self, diverted: QueuedPacket, new_flows: NewFlows) -> bytes:
        """The key of a conversation that this packet opens or that has packets waiting; empty for others."""
        return b""


class Datapath:
    """A queue of the kernel, the entrance of its packets, and their discipline.

    `opening` is another queue, for the first packets of each conversation, which are copied in full; their excess waits
    in `new_flows`. `held` are packets that may have to wait for earlier ones there, since `held_since`. The first
    `settled` packets wait until those of their sender in `new_flows` have left, by the ticket in their `stage`, the
    others until the kernel's other queue has been empty. `up` means that the senders are local. `sent` bytes of IP were
    released, in `packets` packets.
    """

    __slots__ = (
        "discipline",
        "entrance",
        "held",
        "held_since",
        "new_flows",
        "opening",
        "packets",
        "queue",
        "sent",
        "settled",
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
        self.new_flows = NewFlows(up)
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
    """A queue whose packets are read and released at once, with the mark that `hear` returns, unless that is -1."""

    __slots__ = ("hear", "queue")

    def __init__(self, queue: PacketQueue, hear: Callable[[QueuedPacket, Nanoseconds], int]) -> None:
        self.queue = queue
        self.hear = hear

    def turn(self) -> None:
        """Read new packets."""
        now = time.monotonic_ns()
        for diverted in self.queue.read(BATCH):
            mark = self.hear(diverted, now)
            if mark < 0:
                self.queue.accept(diverted.token)
            else:
                self.queue.accept_marked(diverted.token, mark)
        self.queue.flush()


class Reader(Protocol):
    """Another source to read from."""

    def fileno(self) -> int:
        """For select."""

    def turn(self) -> None:
        """Read arrived packets."""


class Loop:
    """Turns until `stop` is called, which a signal handler may do; `wake` is a readable end that signals write to.

    Datapaths and listeners may be replaced between turns, or by a callback during one: then call `changed`. `tick` is
    called every `pace` nanoseconds, `woken` when something was written to the other end of `wake`. `chore`, if there
    is one, is called every turn and does part of a longer job, until it returns True.
    """

    def __init__(
        self,
        datapaths: Sequence[Datapath],
        wake: int,
        tick: Callable[[], None] | None = None,
        listeners: Sequence[Listener] = (),
        others: Sequence[Reader] = (),
        woken: Callable[[], None] | None = None,
        heart: Heart | None = None,
    ) -> None:
        self._woken = woken
        self.datapaths = datapaths
        self.listeners = listeners
        self.others = others
        self.pace: Nanoseconds = SECOND
        self.beat: Callable[[], None] | None = None  # is called every `beat_pace`, beside the tick
        self.beat_pace: Nanoseconds = SECOND
        self._wake = wake
        self._tick = tick
        self._stopped = False
        self.chore: Callable[[], bool] | None = None
        self._era = 1  # of the queues: settled in one is not settled in the next
        self.longest: Nanoseconds = 0  # turn, since somebody set it to 0
        self.late = 0  # turns that took longer than LATE
        self.shed = 0  # packets dropped, of too many that open conversations
        self.worked: Nanoseconds = 0  # time not asleep
        self.heart = heart
        self._readers: list[int | PacketQueue | Reader] = []

    def stop(self) -> None:
        """End after the current turn."""
        self._stopped = True

    def changed(self) -> None:
        """Use the new datapaths, listeners and readers. Held packets stay held."""
        self._era += 1
        self._readers = [self._wake, *(listener.queue for listener in self.listeners), *self.others]
        for datapath in self.datapaths:
            self._readers += datapath.queues

    def let_in(self) -> None:
        """Release held packets before datapaths are replaced; most of a crowd is dropped."""
        now = time.monotonic_ns()
        for datapath in self.datapaths:
            self._take_new_flows(datapath, MOST_READ, now)
            datapath.new_flows.drop_all()
            self.shed += datapath.new_flows.shed
            datapath.new_flows.shed = 0
            for packet in datapath.held:
                packet.stage = 0
                datapath.discipline.offer(packet, now)
            datapath.held, datapath.settled = [], 0

    def run(self) -> None:
        """Turn until stopped."""
        self.changed()
        next_tick = time.monotonic_ns() + self.pace
        next_beat = time.monotonic_ns()
        window = used = 0
        while not self._stopped:
            if self.heart is not None:
                self.heart.beat()
            now = time.monotonic_ns()
            wake_at = min(now + LONGEST_SLEEP, next_tick) if self.chore is None else now
            if self.beat is not None and next_beat < wake_at:
                wake_at = max(now, next_beat)
            for datapath in self.datapaths:
                due = datapath.discipline.next_release(now)
                if due is not None and due < wake_at:
                    wake_at = due
                if datapath.held or datapath.new_flows.waiting:
                    wake_at = now
            readable, _, _ = select.select(self._readers, (), (), max(0, wake_at - time.monotonic_ns()) / SECOND)
            begun = time.monotonic_ns()
            if begun >= window:
                # By processor time: what the kernel does before a call returns counts as well.
                window, used = begun + WINDOW, time.thread_time_ns()
            for listener in self.listeners:
                if listener.queue in readable:
                    listener.turn()
            for datapath in self.datapaths:
                self._turn(datapath, readable)
            for datapath in self.datapaths:  # several may lead to one discipline, which releases packets of them all
                for queue in datapath.queues:
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

    def _turn(self, datapath: Datapath, readable: Sequence[object]) -> None:
        discipline, entrance, opening = datapath.discipline, datapath.entrance, datapath.opening
        arrived: list[QueuedPacket] = []
        if datapath.queue in readable:
            arrived = datapath.queue.read(BATCH)
        if opening is not None:
            self._take_both(datapath, opening, arrived, opening in readable)
        else:
            many = len(arrived) == BATCH or datapath.new_flows.waiting > 0
            if many and len(arrived) == BATCH:
                arrived += datapath.queue.read(MOST_READ - BATCH)
            now = time.monotonic_ns()
            for one in arrived:
                key = entrance.opens(one, datapath.new_flows) if many else b""
                if key:
                    datapath.new_flows.put(one, key)
                    continue
                packet = entrance.admit(one, now)
                if packet is None:
                    one.queue.accept(one.token)
                else:
                    discipline.offer(packet, now)
            self._take_new_flows(datapath, FIRST_BATCH, now)
        if datapath.new_flows.shed:
            self.shed += datapath.new_flows.shed
            datapath.new_flows.shed = 0
        now = time.monotonic_ns()
        for _ in range(RELEASES):
            packet = discipline.release(now)
            if packet is None:
                break
            diverted: QueuedPacket = packet.token
            datapath.sent += packet.length
            datapath.packets += 1
            probe = packet.conversation.probe
            if probe is not None and probe.token is diverted:
                probe.left(now)
                if probe.up and packet.flow_path is not None:
                    if probe.stamp != PLAIN:
                        packet.flow_path.shaper.asked = now
                    elif packet.conversation.down_path is not None:
                        packet.flow_path.shaper.spoke = now
            if packet.marked or packet.dscp >= 0:
                mark = diverted.fwmark | wishes(packet.marked, packet.dscp)
                diverted.queue.accept_marked(diverted.token, mark, again=not diverted.inside)
            else:
                diverted.queue.accept(diverted.token)
        for queue in datapath.queues:
            queue.flush()

    def _take_new_flows(self, datapath: Datapath, limit: int, now: Nanoseconds) -> None:
        """Take in some of the packets that open conversations."""
        new_flows = datapath.new_flows
        for _ in range(min(limit, new_flows.waiting)):
            diverted = new_flows.take()
            packet = datapath.entrance.admit(diverted, now)
            if packet is None:
                diverted.queue.accept(diverted.token)
            else:
                datapath.discipline.offer(packet, now)

    def _take_both(self, datapath: Datapath, opening: PacketQueue, arrived: list[QueuedPacket], readable: bool) -> None:
        """Take in packets from a queue, and some from its queue of first packets."""
        discipline, entrance, held = datapath.discipline, datapath.entrance, datapath.held
        now = time.monotonic_ns()
        unsettled: list[Packet] = []
        for diverted in arrived:
            packet = entrance.admit(diverted, now)
            if packet is None:
                diverted.queue.accept(diverted.token)
            elif packet.conversation.settled == self._era:
                discipline.offer(packet, now)
            else:
                unsettled.append(packet)
        new_flows = datapath.new_flows
        if not (readable or unsettled or held or new_flows.waiting):
            return
        first = opening.read(MOST_READ)
        for diverted in first:
            new_flows.put(diverted, b"")
        if unsettled and not held:
            datapath.held_since = now
        held += unsettled
        if len(first) < MOST_READ:
            for packet in held[datapath.settled :]:
                packet.stage = new_flows.ticket(packet.token)
            datapath.settled = len(held)
        self._take_new_flows(datapath, FIRST_BATCH, now)
        if not held:
            return
        if len(held) > MOST_HELD or now - datapath.held_since > LONGEST_HELD:
            kept: list[Packet] = []
            passed = held
        else:
            kept, passed = [], []
            for index, packet in enumerate(held):
                before = index < datapath.settled and new_flows.is_called(packet.stage)
                (passed if before else kept).append(packet)
        waits = {packet.conversation.key for packet in kept}
        for packet in passed:
            if packet.conversation.key not in waits:
                packet.conversation.settled = self._era
            packet.stage = 0
            discipline.offer(packet, now)
        if len(kept) < len(held):
            datapath.settled = max(0, datapath.settled - len(passed))
            datapath.held = kept

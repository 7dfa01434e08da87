"""The gate: shapes the real packets that this machine forwards, as the plan says, until it is told to stop.

Each uplink has two of the kernel's packet queues, one a direction; and where the plan asks what conversations speak,
two more for their first packets. On every way out but a killing the chain that
diverts packets is removed first, then what is still held is let go; after a killing the kernel drops what was held and
lets all later packets through unshaped, and the next gate clears the chain away.
"""

import errno
import gc
import os
import signal
import socket
from collections.abc import Callable
from datetime import datetime
from typing import Protocol
from zoneinfo import ZoneInfo

from wily_sluice.engine.framing import LARGEST_PACKET
from wily_sluice.engine.header import UNREADABLE, is_ipv6, parse, parties
from wily_sluice.engine.kind import kind_of
from wily_sluice.engine.packet import Packet
from wily_sluice.gate import diversion
from wily_sluice.gate.command import require
from wily_sluice.gate.errors import LiveError
from wily_sluice.gate.loop import Crossing, Listener, Loop
from wily_sluice.gate.packet_queue import HEADER_BYTES, WHOLE_BYTES, Diverted, PacketQueue
from wily_sluice.gate.urgency import run_before_others
from wily_sluice.plan.build import SiteEngine
from wily_sluice.plan.model import Plan
from wily_sluice.plan.periods import period_start
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.units import DIRECTIONS, MILLISECOND, Direction, Nanoseconds, Rate, Size, transmission_time

FIRST_QUEUE = 4100  # of the kernel's queue numbers; each uplink takes two
FIRST_OPENING = 5100  # likewise, for the first packets of conversations
NAMES_QUEUE = 5099  # for answers of DNS that this machine gives
LARGEST_OFFLOADED = 65_535  # bytes
TCP_HEADERS = (52, 72)  # bytes with timestamps, over IPv4 and over IPv6
KEEP_EVERY = 5  # seconds
LOCK = "\0wily-sluice-gate"  # an abstract Unix socket: one for each network namespace, gone with its process


def takes_whole(rate: Rate) -> bool:
    """Whether a large offloaded packet lasts so short at this rate that it need not be cut."""
    return transmission_time(LARGEST_OFFLOADED, rate) < MILLISECOND


class Keeper(Protocol):
    """Keeps what was used of quotas. `keep` does not wait for a disk."""

    def used(self, limiter: str, period: str) -> dict[bytes, Size]:
        """What each account of a limiter had used of a period, when it was last kept."""

    def keep(self, limiter: str, period: str, used: dict[bytes, Size]) -> bool:
        """Keep it; False when it cannot be taken now, and is to be offered again."""


class Gate:
    """One gate of this network namespace."""

    def __init__(self, plan: Plan, keeper: "Keeper | None" = None) -> None:
        self.plan = plan
        self._keeper = keeper
        self._until_kept = KEEP_EVERY
        self._dscps = {limiter.dscp for limiter in plan.limiters if limiter.excess == "mark" and limiter.enabled}
        self._dscps |= {rule.mark for rule in plan.sorting if rule.mark is not None}
        self.engine = SiteEngine(plan, self._drop)
        self._recognition = Recognition() if self.engine.recognizes else None
        self._queues: list[PacketQueue] = []
        self.unreadable = 0  # packets that are no IP that can be read; they go to the default
        self._lock: socket.socket | None = None
        self._marks = False  # whether this machine can write the ECN field of what it forwards

    def run(self, ready: Callable[[], None], each_second: Callable[[], None] | None = None) -> None:
        """Shape until SIGINT, SIGTERM or SIGHUP; `ready` is called once it does.

        Must be called from the main thread. LiveError on refusal.
        """
        self._refuse_early()
        numbers = {
            key: FIRST_QUEUE + place
            for place, key in enumerate((u.name, d) for u in self.plan.uplinks for d in DIRECTIONS)
        }
        interfaces = {uplink.name: uplink.interface for uplink in self.plan.uplinks}
        reader, writer = os.pipe()
        os.set_blocking(writer, False)
        old_wakeup = signal.set_wakeup_fd(writer)
        old_handlers = {}
        try:
            self._take_lock()
            diversion.remove()  # what a killed gate left
            apart = self._recognition is not None and diversion.can_count()
            openings = {key: FIRST_OPENING + place if apart else None for place, key in enumerate(numbers)}
            crossings = [self._crossing(*key, number, openings[key]) for key, number in numbers.items()]
            listeners = self._listeners()
            zone = ZoneInfo(self.plan.timezone)

            def second() -> None:
                self._follow_clock(datetime.now(zone))
                if each_second is not None:
                    each_second()

            self._follow_clock(datetime.now(zone))
            loop = Loop(crossings, reader, second, listeners)
            for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
                old_handlers[number] = signal.signal(number, lambda *_: loop.stop())
            self._marks = diversion.insert_marking(self._dscps)
            if self._dscps and not self._marks:
                raise LiveError("this machine cannot write DSCPs (iptables has no TOS), which the plan asks for")
            diversion.insert(
                [
                    diversion.Diverting(interfaces[name], direction, number, openings[name, direction])
                    for (name, direction), number in numbers.items()
                ],
                NAMES_QUEUE if listeners else None,
            )
            gc.freeze()
            run_before_others()
            ready()
            loop.run()
        finally:
            if self._lock is not None:
                diversion.remove()
                self._lock.close()
            for queue in self._queues:
                queue.close()
            self._keep_quotas()
            for number, handler in old_handlers.items():
                signal.signal(number, handler)
            signal.set_wakeup_fd(old_wakeup)
            os.close(reader)
            os.close(writer)

    def _follow_clock(self, moment: datetime) -> None:
        """Follow the schedules, begin new periods of quotas, and hand over now and then what was used of them."""
        self.engine.at(moment)
        for limiter in self.plan.limiters:
            ledger = self.engine.ledgers.get(limiter.name)
            if ledger is None or limiter.quota is None:
                continue
            period = period_start(limiter.quota.period, limiter.starts, moment).isoformat()
            if period != ledger.period:
                self._keep_quotas()
                ledger.begin(period, self._keeper.used(limiter.name, period) if self._keeper is not None else {})
        self._until_kept -= 1
        if self._until_kept <= 0:
            self._until_kept = KEEP_EVERY
            self._keep_quotas()

    def _keep_quotas(self) -> None:
        if self._keeper is not None:
            for name, ledger in self.engine.ledgers.items():
                changes = ledger.changes()
                if changes and not self._keeper.keep(name, ledger.period, changes):
                    ledger.changed(changes)

    def _refuse_early(self) -> None:
        if os.geteuid() != 0:
            raise LiveError("shaping real packets needs root: run it with sudo")
        require(*diversion.FAMILIES)
        present = {name for _, name in socket.if_nameindex()}
        for uplink in self.plan.uplinks:
            if uplink.interface not in present:
                raise LiveError(
                    f"uplink {uplink.name}: this machine has no interface {uplink.interface}; "
                    f"it has {', '.join(sorted(present))}"
                )

    def _take_lock(self) -> None:
        lock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            lock.bind(LOCK)
        except OSError as error:
            lock.close()
            if error.errno != errno.EADDRINUSE:
                raise
            raise LiveError("another gate runs here already: stop it first") from None
        self._lock = lock

    def _queue(self, number: int, whole: bool = False, copied: Size = HEADER_BYTES) -> PacketQueue:
        try:
            queue = PacketQueue(number, whole, copied)
        except OSError as error:
            if error.errno in (errno.EBUSY, errno.EPERM):
                raise LiveError(f"the kernel's packet queue {number} is in use by another program") from None
            raise LiveError(
                f"the kernel lacks the packet queue (nfnetlink_queue), which the gate needs: {error.strerror}"
            ) from None
        self._queues.append(queue)
        return queue

    def _listeners(self) -> list[Listener]:
        """Hears the answers of DNS that this machine gives to its hosts."""
        recognition = self._recognition
        if recognition is None:
            return []

        def hear(packet: bytes, now: Nanoseconds) -> None:
            parsed = parse(packet, False)
            if parsed is not None:
                recognition.hear_dns(packet[parsed.headers :], parties(parsed.key).local, now)

        return [Listener(self._queue(NAMES_QUEUE, copied=WHOLE_BYTES), hear)]

    def _crossing(self, uplink: str, direction: Direction, number: int, opening: int | None) -> Crossing:
        shaper = self.engine.shapers[uplink, direction]
        whole = takes_whole(shaper.rate)
        recognition = self._recognition
        copied = HEADER_BYTES if recognition is None or opening is not None else WHOLE_BYTES
        queue = self._queue(number, whole, copied)
        opening_queue = self._queue(opening, whole, WHOLE_BYTES) if opening is not None else None
        up = direction == "up"
        find = self.engine.conversations.find
        framing = next(planned.framing for planned in self.plan.uplinks if planned.name == uplink)
        asks_kinds = bool(self.engine.kinds)
        learn = self.engine.learn if up and self.engine.neighbours.watched else None

        def admit(diverted: Diverted, now: Nanoseconds) -> Packet | None:
            header = diverted.header
            parsed = parse(header, up)
            if parsed is None:
                self.unreadable += 1
                length = diverted.length or len(header)
                return Packet(framing.cost(length), find(UNREADABLE, 0, now), diverted, length=length)
            if learn is not None and diverted.hardware:
                learn(parties(parsed.key).local, diverted.hardware)
            length = diverted.length or parsed.length
            if length <= LARGEST_PACKET:
                size = framing.cost(length)
            else:
                size = framing.cost_when_cut(length, TCP_HEADERS[is_ipv6(parsed.key)])
            conversation = find(parsed.key, parsed.dscp, now)
            if (
                recognition is not None
                and conversation.unknown
                and recognition.look(conversation, parsed, header, up, now)
            ):
                conversation.sort_again()
            return Packet(
                size,
                conversation,
                diverted,
                parsed.ecn if self._marks else 0,
                max(0, length - parsed.headers),
                length,
                kind_of(parsed.key[0], parsed.flags, length, parsed.headers) if asks_kinds else 0,
            )

        return Crossing(queue, shaper, admit, opening_queue)

    def _drop(self, packet: Packet) -> None:
        packet.token.queue.drop(packet.token.token)

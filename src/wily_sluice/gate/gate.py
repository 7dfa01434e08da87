"""The gate: shapes the real packets that this machine forwards, as the plan says, until it is told to stop.

Each uplink has two of the kernel's packet queues, one a direction. On every way out but a killing the chain that
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
from wily_sluice.engine.header import is_ipv6, parse, parties
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.shaper import Shaper
from wily_sluice.gate import diversion
from wily_sluice.gate.command import require
from wily_sluice.gate.errors import LiveError
from wily_sluice.gate.loop import Crossing, Loop
from wily_sluice.gate.packet_queue import Diverted, PacketQueue
from wily_sluice.gate.urgency import run_before_others
from wily_sluice.plan.build import SiteEngine
from wily_sluice.plan.model import Plan
from wily_sluice.plan.periods import period_start
from wily_sluice.units import DIRECTIONS, MILLISECOND, Direction, Nanoseconds, Rate, Size, transmission_time

FIRST_QUEUE = 4100  # of the kernel's queue numbers; each uplink takes two
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
        self.engine = SiteEngine(plan, self._drop)
        self._queues: dict[Shaper, PacketQueue] = {}
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
            crossings = [self._crossing(name, direction, number) for (name, direction), number in numbers.items()]
            zone = ZoneInfo(self.plan.timezone)

            def second() -> None:
                self._follow_clock(datetime.now(zone))
                if each_second is not None:
                    each_second()

            self._follow_clock(datetime.now(zone))
            loop = Loop(crossings, reader, second)
            for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
                old_handlers[number] = signal.signal(number, lambda *_: loop.stop())
            self._marks = diversion.insert_marking(self._dscps)
            if self._dscps and not self._marks:
                raise LiveError("this machine cannot write DSCPs (iptables has no TOS), which the plan asks for")
            diversion.insert([(interfaces[name], direction, number) for (name, direction), number in numbers.items()])
            gc.freeze()
            run_before_others()
            ready()
            loop.run()
        finally:
            if self._lock is not None:
                diversion.remove()
                self._lock.close()
            for queue in self._queues.values():
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

    def _crossing(self, uplink: str, direction: Direction, number: int) -> Crossing:
        shaper = self.engine.shapers[uplink, direction]
        try:
            queue = PacketQueue(number, whole=takes_whole(shaper.rate))
        except OSError as error:
            if error.errno in (errno.EBUSY, errno.EPERM):
                raise LiveError(f"the kernel's packet queue {number} is in use by another program") from None
            raise LiveError(
                f"the kernel lacks the packet queue (nfnetlink_queue), which the gate needs: {error.strerror}"
            ) from None
        self._queues[shaper] = queue
        up = direction == "up"
        find = self.engine.conversations.find
        framing = next(planned.framing for planned in self.plan.uplinks if planned.name == uplink)

        learn = self.engine.learn if up and self.engine.neighbours.watched else None

        def admit(diverted: Diverted, now: Nanoseconds) -> Packet | None:
            parsed = parse(diverted.header, up)
            if parsed is None:
                return None
            if learn is not None and diverted.hardware:
                learn(parties(parsed.key).local, diverted.hardware)
            length = diverted.length or parsed.length
            if length <= LARGEST_PACKET:
                size = framing.cost(length)
            else:
                size = framing.cost_when_cut(length, TCP_HEADERS[is_ipv6(parsed.key)])
            payload = max(0, length - parsed.headers)
            return Packet(
                size, find(parsed.key, parsed.dscp, now), diverted, parsed.ecn if self._marks else 0, payload, length
            )

        return Crossing(queue, shaper, admit)

    def _drop(self, packet: Packet) -> None:
        assert packet.lane is not None
        self._queues[packet.lane.shaper].drop(packet.token.token)

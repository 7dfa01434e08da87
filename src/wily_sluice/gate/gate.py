"""The gate: shapes the real packets that this machine forwards, as the plan says, until it is told to stop.

On every way out but a killing the chain that diverts packets is removed first, then what is still held is let go; after
a killing the kernel drops what was held and lets all later packets through unshaped, and the next gate clears the chain
away.
"""

import gc
import os
import signal
import socket
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from threading import Thread
from typing import Protocol
from zoneinfo import ZoneInfo

from wily_sluice.engine.header import parse, parties
from wily_sluice.engine.packet import Packet
from wily_sluice.gate import diversion
from wily_sluice.gate.admission import Admission
from wily_sluice.gate.budget import Budget
from wily_sluice.gate.command import require
from wily_sluice.gate.counters import Row, Talk, copy_counters, copy_talks
from wily_sluice.gate.errors import LiveError
from wily_sluice.gate.intake import Intake, Taken
from wily_sluice.gate.lock import take_lock
from wily_sluice.gate.loop import Crossing, Listener, Loop
from wily_sluice.gate.urgency import run_before_others
from wily_sluice.gate.visits import Visits
from wily_sluice.plan.build import SiteEngine
from wily_sluice.plan.finding import FileError
from wily_sluice.plan.model import Plan
from wily_sluice.plan.periods import period_start
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.units import DIRECTIONS, SECOND, Nanoseconds, Size

THREAD_TURN = 0.0005  # seconds that a thread beside the loop may hold it up
KEEP_EVERY: Nanoseconds = 5 * SECOND


class Keeper(Protocol):
    """Keeps what was used of quotas. `keep` does not wait for a disk."""

    def used(self, limiter: str, period: str) -> dict[bytes, Size]:
        """What each account of a limiter had used of a period, when it was last kept."""

    def keep(self, limiter: str, period: str, used: dict[bytes, Size]) -> bool:
        """Keep it; False when it cannot be taken now, and is to be offered again."""


class Watcher(Protocol):
    """Is told what happens, from between two turns. None of its methods waits for anybody."""

    def fileno(self) -> int:
        """For select: readable when it wants a turn."""

    def turn(self) -> None:
        """Its turn."""

    def ready(self) -> None:
        """The gate shapes from now on."""

    def tick(self, rows: list[Row], lasted: Nanoseconds) -> None:
        """What was counted since the last tick. The gate's `unshaped` and `visits` are to be looked at as well."""

    def told(self, interface: str, here: bool) -> None:
        """An interface of an uplink has gone, or is back."""


@dataclass(slots=True)
class Making:
    """A change of plan that is made ready beside the turning loop. `trouble` says why it cannot be."""

    done: Callable[[str], None]
    thread: Thread | None = None
    plan: Plan | None = None
    engine: SiteEngine | None = None
    taken: Taken | None = None
    trouble: str = ""
    over: bool = False


class Gate:
    """One gate of this network namespace.

    `offer` has it go on by another plan while it runs: what takes long is done in a thread beside it, the change itself
    between two turns.
    """

    def __init__(self, plan: Plan, keeper: Keeper | None = None, watcher: Watcher | None = None) -> None:
        self.plan = plan
        self.engine = SiteEngine(plan, self._drop, crowded=True)
        self._keeper = keeper
        self._watcher = watcher
        self._recognition = Recognition() if self.engine.recognizes else None
        self.visits = Visits()
        self._budget = Budget()
        self._intake = Intake()
        self._admissions: list[Admission] = []
        self._unreadable = 0
        self._lock: int | None = None
        self._loop: Loop | None = None
        self._waker = -1
        self._making: Making | None = None
        self._missing: set[str] = set()
        self._talking = False
        self._ticked: Nanoseconds = 0
        self._kept: Nanoseconds = 0

    @property
    def unreadable(self) -> int:
        """Packets that were no IP that can be read; they go to the default."""
        return self._unreadable + sum(admission.unreadable for admission in self._admissions)

    @property
    def unshaped(self) -> int:
        """Packets that flowed past unshaped, since they came faster than they could be taken in."""
        return self._intake.missed

    def run(self, ready: Callable[[], None]) -> None:
        """Shape until SIGINT, SIGTERM or SIGHUP; `ready` is called once it does.

        Must be called from the main thread. LiveError on refusal.
        """
        if os.geteuid() != 0:
            raise LiveError("shaping real packets needs root: run it with sudo")
        require(*diversion.FAMILIES, *(f"{family}-restore" for family in diversion.FAMILIES))
        reader, self._waker = os.pipe()
        os.set_blocking(self._waker, False)
        old_wakeup = signal.set_wakeup_fd(self._waker, warn_on_full_buffer=False)
        old_handlers = {}
        try:
            self._lock = take_lock()
            self._intake.begin()
            others = (self._watcher,) if self._watcher is not None else ()
            self._loop = loop = Loop((), reader, self._tick, others=others, woken=self._woken)
            taken = self._intake.take(self.plan, self.engine.recognizes)
            for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
                old_handlers[number] = signal.signal(number, lambda *_: loop.stop())
            self._arrange(taken)
            gc.freeze()
            gc.disable()
            run_before_others()
            sys.setswitchinterval(THREAD_TURN)
            self._ticked = self._kept = time.monotonic_ns()
            ready()
            if self._watcher is not None:
                self._watcher.ready()
            loop.run()
        finally:
            if self._lock is not None:
                self._intake.close()
                os.close(self._lock)
            self._keep_quotas()
            for number, handler in old_handlers.items():
                signal.signal(number, handler)
            signal.set_wakeup_fd(old_wakeup)
            os.close(reader)
            os.close(self._waker)

    def stop(self) -> None:
        """End after this turn."""
        assert self._loop is not None
        self._loop.stop()

    def watch(self, pace: Nanoseconds, conversations: bool) -> None:
        """Have the watcher told what was counted that often; and count single conversations, or no more."""
        assert self._loop is not None
        self._loop.pace = pace
        self._talking = conversations
        for shaper in self.engine.shapers.values():
            shaper.count_conversations(conversations)

    def talks(self) -> list[Talk]:
        """The busiest conversations since the last call, where they are counted."""
        return copy_talks(self.engine) if self._talking else []

    def offer(self, plan: Callable[[], Plan], done: Callable[[str], None]) -> None:
        """Go on by another plan. `done` is called, between two turns, with an empty string or with why it cannot be.

        `plan` may take its time: it is called in a thread of its own. When it cannot be, nothing has changed.
        """
        if self._making is not None:
            done("another plan is being taken over at this moment")
            return
        making = self._making = Making(done)
        making.thread = Thread(target=self._make_ready, args=(making, plan), daemon=True)
        making.thread.start()

    def _make_ready(self, making: Making, plan: Callable[[], Plan]) -> None:
        try:
            making.plan = plan()
            making.engine = SiteEngine(making.plan, self._drop, crowded=True)
            making.taken = self._intake.take(making.plan, making.engine.recognizes)
        except (LiveError, FileError, OSError, ValueError) as error:
            making.trouble = str(error)
        finally:
            making.trouble = making.trouble or ("" if making.taken is not None else "the plan cannot be made ready")
            making.over = True
            os.write(self._waker, b".")

    def _woken(self) -> None:
        """Go on by the plan that was made ready, if one was."""
        making = self._making
        if making is None or not making.over:
            return
        self._making = None
        if making.plan is not None and making.engine is not None and making.taken is not None:
            assert self._loop is not None
            self._loop.let_in()
            self._tell(time.monotonic_ns())
            self._keep_quotas()
            self.plan = making.plan
            self.engine.follow(making.engine, time.monotonic_ns())
            if not self.engine.recognizes:
                self._recognition = None
            elif self._recognition is None:
                self._recognition = Recognition()
            self._arrange(making.taken)
        making.done(making.trouble)

    def _arrange(self, taken: Taken) -> None:
        """Have the loop read what the plan takes."""
        assert self._loop is not None
        self._intake.settle(taken)
        self._unreadable = self.unreadable
        crossings = []
        self._admissions = []
        visits = self.visits if self.plan.gate.keep_names is not None else None
        for uplink in self.plan.uplinks:
            for direction in DIRECTIONS:
                queue, opening = self._intake.queues((uplink.name, direction))
                admission = Admission(
                    self.engine,
                    self._recognition,
                    uplink.framing,
                    direction,
                    self._intake.can_write,
                    visits,
                    self._budget,
                )
                self._admissions.append(admission)
                crossings.append(Crossing(queue, self.engine.shapers[uplink.name, direction], admission, opening))
        self._loop.crossings, self._loop.listeners = crossings, self._listeners()
        self._loop.changed()
        for shaper in self.engine.shapers.values():
            shaper.count_conversations(self._talking)
        self._follow_clock()
        self._look_at_interfaces()

    def _listeners(self) -> list[Listener]:
        """Hears the answers of DNS that this machine gives to its hosts."""
        recognition, names = self._recognition, self._intake.names
        if recognition is None or names is None:
            return []

        def hear(packet: bytes, now: Nanoseconds) -> None:
            parsed = parse(packet, False)
            if parsed is not None:
                recognition.hear_dns(packet[parsed.headers :], parties(parsed.key).local, now)

        return [Listener(names, hear)]

    def _tick(self) -> None:
        """Between turns, now and then."""
        now = time.monotonic_ns()
        self.engine.conversations.sweep(now)
        self._tell(now)
        self._follow_clock()
        self._look_at_interfaces()
        if now - self._kept >= KEEP_EVERY:
            self._kept = now
            self._keep_quotas()

    def _tell(self, now: Nanoseconds) -> None:
        if self._watcher is not None:
            self._watcher.tick(copy_counters(self.engine, now), now - self._ticked)
            self._ticked = now

    def _look_at_interfaces(self) -> None:
        """See which interfaces of uplinks have gone or are back; packets are shaped whenever theirs is there."""
        present = {name for _, name in socket.if_nameindex()}
        missing = {uplink.interface for uplink in self.plan.uplinks} - present
        if self._watcher is not None:
            for name in sorted(missing ^ self._missing):
                self._watcher.told(name, name not in missing)
        self._missing = missing

    def _follow_clock(self) -> None:
        """Follow the schedules, and begin new periods of quotas."""
        moment = datetime.now(ZoneInfo(self.plan.timezone))
        self.engine.at(moment)
        for limiter in self.plan.limiters:
            ledger = self.engine.ledgers.get(limiter.name)
            if ledger is None or limiter.quota is None:
                continue
            period = period_start(limiter.quota.period, limiter.starts, moment).isoformat()
            if period != ledger.period:
                self._keep_quotas()
                ledger.begin(period, self._keeper.used(limiter.name, period) if self._keeper is not None else {})

    def _keep_quotas(self) -> None:
        if self._keeper is not None:
            for name, ledger in self.engine.ledgers.items():
                changes = ledger.changes()
                if changes and not self._keeper.keep(name, ledger.period, changes):
                    ledger.changed(changes)

    def _drop(self, packet: Packet) -> None:
        packet.token.queue.drop(packet.token.token)

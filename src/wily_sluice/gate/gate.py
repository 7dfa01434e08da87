"""The gate: shapes the packets that cross this machine's uplinks by a plan, until it is stopped.

Whenever the gate exits, it first removes the chain that diverts packets, then releases the packets still held. If it is
killed, the kernel drops the packets held, and later ones bypass the gate; the next gate removes the chain.

Slow work is done in a thread (`BackgroundTasks`), by the worker, or in small parts of each turn.
"""

import gc
import os
import signal
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from wily_sluice.engine.classify.neighbours import GATEWAY, Home
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.site import SiteEngine
from wily_sluice.engine.uplinks import TICK
from wily_sluice.errors import LiveError
from wily_sluice.gate.bypass_audit import BypassAudit
from wily_sluice.gate.datapaths import Datapaths, listeners
from wily_sluice.gate.kernel.guard import Guard
from wily_sluice.gate.kernel.machine import Machine, Survey, TableNews
from wily_sluice.gate.kernel.packet_queue import QueuedPacket
from wily_sluice.gate.kernel.process import THREAD_TURN, BackgroundTasks, Heart
from wily_sluice.gate.look import Visits, shared_devices
from wily_sluice.gate.loop import Loop
from wily_sluice.gate.observers import GateState, Keeper, Talk, Watcher, copy_counters, copy_talks, copying, time_in
from wily_sluice.gate.probes import PACE, Probes
from wily_sluice.gate.queue_manager import QueueManager, Taken
from wily_sluice.gate.quotas import Quotas
from wily_sluice.gate.rate_search import Finding
from wily_sluice.gate.uplink_selection import UplinkSelection
from wily_sluice.plan.build import build_site, homes_of, open_schedules
from wily_sluice.plan.model import Plan
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds

HERE = 0  # in place of an interface's index: this machine itself sends or receives


@dataclass(slots=True)
class Making:
    """A change of plan, prepared outside the loop."""

    plan: Plan
    engine: SiteEngine
    taken: Taken
    schedules: int
    survey: Survey


class Gate:
    """The gate of this network namespace.

    `offer` switches it to another plan while it runs: a thread does the slow part, the switch itself happens between
    two turns.
    """

    def __init__(
        self,
        plan: Plan,
        keeper: Keeper | None = None,
        watcher: Watcher | None = None,
        machine: Machine | None = None,
        clock: Callable[[str], datetime] = time_in,
        heart: Heart | None = None,
    ) -> None:
        self.plan = plan
        self._heart = heart
        self._clock = clock
        self.engine = build_site(plan, self._drop, crowded=True)
        self._quotas = Quotas(keeper, lambda: self.engine, lambda: self._background, self._happened)
        self._watcher = watcher
        self._machine = machine or Machine()
        self._opened: dict[tuple[bytes, int, int], str] = {}
        self._recognition = Recognition() if self.engine.recognises else None
        self.visits = Visits()
        self._homes: dict[int, Home] = {}
        self._datapaths = Datapaths(self._homes)
        self._queue_manager = QueueManager(self._machine)
        self._probes = Probes()
        self._rate_search = Finding(self._happened)
        self._uplink_selection = UplinkSelection(self._machine, self._homes, self._happened, self._probes)
        self._audit = BypassAudit(self._happened)
        self._lock: int | None = None
        self._loop: Loop | None = None
        self._waker = -1
        self._background = BackgroundTasks(-1)
        self._guard: Guard | None = None
        self._news: TableNews | None = None
        self._route_news: TableNews | None = None
        self._stopping = False
        self._changing = False
        self._next: tuple[Callable[[], Plan], Callable[[str], None]] | None = None
        self._missing: set[str] = set()
        self._shared: set[bytes] = set()  # devices with many addresses of which it was told
        self._failed: list[int] = []  # numbers of uplinks whose conversations are to be forgotten
        self._unseen = ""  # why the machine could not be surveyed, as told
        self._talking = False
        self._ticked: Nanoseconds = 0
        self._worked: Nanoseconds = 0
        self._looked: Nanoseconds = 0

    @property
    def bypassed(self) -> int:
        """Packets that bypassed the gate, since they came too fast."""
        return self._queue_manager.missed

    @property
    def unseen(self) -> dict[str, int]:
        """Packets that crossed an interface with a default route that is not in the plan."""
        return dict(self._guard.unseen) if self._guard is not None else {}

    @property
    def missing(self) -> frozenset[str]:
        """The uplinks' interfaces that are not here."""
        return frozenset(self._missing)

    @property
    def down(self) -> list[str]:
        """The lines that routes do not use now."""
        return sorted(self._uplink_selection.down)

    def state(self, lasted: Nanoseconds) -> GateState:
        """The gate's state, for the time since the last call, which was so long."""
        loop = self._loop
        assert loop is not None
        longest, worked = loop.longest, loop.worked
        loop.longest = 0
        busy = min(1.0, (worked - self._worked) / lasted) if lasted else 0.0
        self._worked = worked
        aggregate = self.engine.conversations.aggregate
        return GateState(
            self._datapaths.unreadable,
            self.bypassed,
            aggregate.packets if aggregate is not None else 0,
            self._datapaths.unrecognised,
            loop.late,
            self._queue_manager.refused,
            loop.shed,
            longest,
            round(busy, 3),
            self.unseen,
            self._audit.crossed(),
            self.down,
            dict(self._uplink_selection.carried),
            self._rate_search.rates,
            dict(self._uplink_selection.whys),
        )

    def run(self, ready: Callable[[], None]) -> None:
        """Shape until SIGINT, SIGTERM or SIGHUP; `ready` is called once it does.

        Must be called from the main thread. LiveError on refusal.
        """
        self._machine.require()
        reader, self._waker = os.pipe()
        os.set_blocking(self._waker, False)
        self._background = BackgroundTasks(self._waker)
        old_wakeup = signal.set_wakeup_fd(self._waker, warn_on_full_buffer=False)
        old_handlers = {}
        try:
            self._lock = self._machine.take_lock()
            self._queue_manager.begin()
            self._guard = Guard(self._machine, self._queue_manager, self._background, self._happened, self._retake)
            self._news = self._machine.table_news()
            self._route_news = self._machine.route_news()
            readers = (self._watcher, self._news, self._route_news, self._probes, self._rate_search)
            others = [reading for reading in readers if reading is not None]
            woken = self._background.done
            self._loop = loop = Loop((), reader, self._tick, others=others, woken=woken, heart=self._heart)
            self._machine.leave()
            self._uplink_selection.numbers = self._uplink_selection.number(self.plan)
            for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
                old_handlers[number] = signal.signal(number, lambda *_: self.stop())
            survey = self._survey(self.plan)
            self._uplink_selection.follow(self.plan, survey, time.monotonic_ns())
            self._look_about(survey)
            self._follow(open_schedules(self.plan, self._clock(self.plan.timezone)))
            gc.freeze()
            gc.disable()  # packets come and go by the hundred and leave no cycles behind
            self._machine.become_urgent()
            sys.setswitchinterval(THREAD_TURN)
            # From here on packets wait, until the loop turns.
            self._arrange(self._queue_manager.take(self.plan, self.engine.recognises, self._uplink_selection.numbers))
            self._ticked = time.monotonic_ns()
            self._quotas.begin(self._ticked)
            ready()
            if self._watcher is not None:
                self._watcher.ready()
            loop.run()
        finally:
            if self._heart is not None:
                self._heart.rest()
            if self._lock is not None:
                self._queue_manager.close()
                self._machine.leave()
                os.close(self._lock)
            for news in (self._news, self._route_news):
                if news is not None:
                    news.close()
            self._probes.close()
            self._rate_search.close()
            self._quotas.keep(set(self.engine.ledgers))
            for number, handler in old_handlers.items():
                signal.signal(number, handler)
            signal.set_wakeup_fd(old_wakeup)
            os.close(reader)
            os.close(self._waker)

    def stop(self) -> None:
        """End as soon as no more packets are diverted; asked for twice, after this turn."""
        loop = self._loop
        assert loop is not None
        if self._stopping or not self._background.do("stop", self._queue_manager.idle, lambda _: loop.stop()):
            loop.stop()
        self._stopping = True

    def watch(self, pace: Nanoseconds, conversations: bool) -> None:
        """Set how often counters are copied, and whether single conversations are counted."""
        assert self._loop is not None
        self._loop.pace = pace
        self._talking = conversations
        for shaper in self.engine.shapers.values():
            shaper.count_conversations(conversations)

    def ports_opened(self, ports: list[tuple[bytes, int, int, str]]) -> None:
        """Ports of hosts opened for services: their conversations belong to the service from now on."""
        self._opened = {(host, protocol, port): service for host, protocol, port, service in ports}
        if self._recognition is not None:
            self._recognition.opened = self._opened

    def talks(self) -> list[Talk]:
        """The busiest conversations since the last call, where they are counted."""
        return copy_talks(self.engine) if self._talking else []

    def _happened(self, event: str, level: str, **about: str | int | float | bool) -> None:
        if self._watcher is not None:
            self._watcher.happened(event, level, **about)

    def offer(self, plan: Callable[[], Plan], done: Callable[[str], None]) -> None:
        """Switch to another plan. `done` is called, between two turns, with an empty string, or with the reason of a
        failure that changed nothing.

        `plan` may be slow: it is called in a separate thread.
        """
        if self._changing:
            if self._next is None and "plan" not in self._background:
                self._next = (plan, done)  # only the queues are being renewed, which is soon over
            else:
                done("another plan is being taken over at this moment")
            return
        self._changing = True

        def make_ready() -> Making:
            wanted = plan()
            marks = self.plan.gate.marks
            if self.plan.routing and wanted.routing and wanted.gate.marks.mask != marks.mask:
                raise LiveError(
                    f"conversations are marked in bits {marks} now: stop the gate, then start it with this plan"
                )
            engine = build_site(wanted, self._drop, crowded=True)
            moment = self._clock(wanted.timezone)
            numbers = self._uplink_selection.number(wanted)
            taken = self._queue_manager.take(wanted, engine.recognises, numbers)
            return Making(wanted, engine, taken, open_schedules(wanted, moment), self._survey(wanted))

        def over(making: Any) -> None:
            trouble = ""
            if isinstance(making, Making):
                self._change_over(making)
            else:
                trouble = str(making) or "the plan cannot be made ready"
            self._changing = False
            done(trouble)

        self._background.do("plan", make_ready, over)

    def _retake(self) -> None:
        """Divert the same plan's packets in the present way."""
        if self._changing:
            return  # the change under way does so
        self._changing = True
        plan, recognises = self.plan, self.engine.recognises

        def over(taken: Any) -> None:
            if isinstance(taken, Taken):
                self._arrange(taken)
            self._changing = False
            waiting, self._next = self._next, None
            if waiting is not None:
                self.offer(*waiting)

        self._background.do(
            "intake", lambda: self._queue_manager.take(plan, recognises, self._uplink_selection.numbers), over
        )

    def _change_over(self, making: Making) -> None:
        """Switch to the prepared plan."""
        assert self._loop is not None
        self._loop.let_in()
        while self._loop.chore is not None and not self._loop.chore():
            pass
        self._loop.chore = None
        self._quotas.keep(self.engine.ledgers.keys() - making.engine.ledgers.keys())
        self._uplink_selection.numbers = self._uplink_selection.number(making.plan)
        self.plan = making.plan
        self.engine.reconfigure(making.engine, time.monotonic_ns())
        if not self.engine.recognises:
            self._recognition = None
        elif self._recognition is None:
            self._recognition = Recognition()
            self._recognition.opened = self._opened
        self._look_about(making.survey)
        self._arrange(making.taken)
        self._follow(making.schedules)

    def _arrange(self, taken: Taken) -> None:
        """Let the loop read the plan's queues."""
        assert self._loop is not None
        self._loop.let_in()
        self._queue_manager.settle(taken)
        self._loop.datapaths = self._datapaths.arrange(
            self.plan, self.engine, self._recognition, self._queue_manager, taken, self.visits
        )
        self._loop.listeners = listeners(
            self._recognition, self._queue_manager.names, self._queue_manager.routes, self._steer
        )
        self._loop.changed()
        try:
            self._probes.arrange(self.plan, self._uplink_selection.numbers, self.engine.shapers)
            self._rate_search.arrange(self.plan, self.engine.shapers, self._uplink_selection.numbers)
        except OSError as error:
            self._happened("probes.unusable", "error", why=str(error))
        self._loop.beat = self._beat if self._rate_search or self._probes else None
        self._loop.beat_pace = TICK if self._rate_search else PACE
        for shaper in self.engine.shapers.values():
            shaper.count_conversations(self._talking)

    def _beat(self) -> None:
        now = time.monotonic_ns()
        if self._rate_search:
            self._rate_search.beat(self._datapaths.moved(), now)
        if self._probes.beat(now):
            self._look()

    def _steer(self, diverted: QueuedPacket, now: Nanoseconds) -> int:
        """The mark of a packet that opens a conversation to be routed."""
        return self._uplink_selection.mark(self.plan, self.engine, self._recognition, diverted, now)

    def _tick(self) -> None:
        """Regular work between turns."""
        now = time.monotonic_ns()
        self.engine.conversations.sweep(now)
        self.engine.settle(now)
        self._tell(now)
        if now - self._looked >= SECOND - 100 * MILLISECOND:
            self._looked = now
            self._look()
            for network, address in self._datapaths.strangers():
                self._happened("strangers.seen", "warning", network=network, address=address)
        for kind in self._background.late():
            self._happened("task.late", "warning", task=kind)
        self._quotas.tick(now)

    def _look(self) -> None:
        """Survey the machine, in a separate thread."""
        plan, news = self.plan, self._route_news
        if "look" in self._background:
            return
        changed = news is not None and news.changed
        if news is not None:
            news.changed = False

        def look() -> tuple[Plan, int, Survey]:
            survey = self._survey(plan)
            self._uplink_selection.follow(plan, survey, time.monotonic_ns(), changed)
            return plan, open_schedules(plan, self._clock(self.plan.timezone)), survey

        self._background.do("look", look, self._looked_about)

    def _tell(self, now: Nanoseconds) -> None:
        """Begin to copy the counters, some in each turn."""
        assert self._loop is not None
        watcher = self._watcher
        if watcher is None or self._loop.chore is not None:
            return
        self._loop.chore = copying(copy_counters(self.engine, now), watcher, now - self._ticked)
        self._ticked = now

    def _survey(self, plan: Plan) -> Survey:
        networks = {network.interface for network in plan.networks}
        return self._machine.survey(networks, {line.interface for line in plan.lines})

    def _look_about(self, survey: Survey) -> None:
        """See which uplinks' interfaces have gone or are back; packets are shaped whenever theirs is there."""
        present = survey.interfaces
        self._homes.clear()
        self._homes[HERE] = GATEWAY
        self._homes.update({present[name]: home for name, home in homes_of(self.plan).items() if name in present})
        if self.engine.neighbours.look_near(survey.near):
            self.engine.sort_again()
        for about in shared_devices(self.plan, self.engine.neighbours, self._shared):
            self._happened("device.shared", "warning", **about)
        missing = {uplink.interface for uplink in self.plan.uplinks} - present.keys()
        if self._watcher is not None:
            for name in sorted(missing ^ self._missing):
                self._watcher.told(name, name not in missing)
        self._missing = missing

    def _looked_about(self, seen: Any) -> None:
        """The result of the survey; its plan may have been replaced since."""
        if isinstance(seen, Exception):
            if repr(seen) != self._unseen:
                self._unseen = repr(seen)
                self._happened("look.failed", "error", why=f"{type(seen).__name__}: {seen}")
            return
        self._unseen = ""
        if isinstance(seen, tuple) and seen[0] is self.plan:
            plan, schedules, survey = seen
            self._follow(schedules)
            self._look_about(survey)
            self._failed += self._uplink_selection.look(plan, self.engine, survey, time.monotonic_ns())
            if self._failed and "forget" not in self._background:
                failed, self._failed = self._failed, []
                self._background.do("forget", lambda: self._uplink_selection.forget(plan, failed), lambda _: None)
            refused = (
                self._uplink_selection.lead_elsewhere(plan, self.engine) if "refused" not in self._background else []
            )
            if refused:
                self._background.do(
                    "refused", lambda: self._uplink_selection.forget_conversations(plan, refused), lambda _: None
                )
            self._audit.look(self.plan.uplinks, survey.crossed, survey.headers, self._datapaths.moved())
            if self._guard is not None:
                self._guard.tick(self.plan, self._news, survey, time.monotonic_ns())

    def _follow(self, schedules: int) -> None:
        """Follow the schedules, and begin new periods of quotas."""
        self.engine.keep_to(schedules)
        self._quotas.reconfigure(self.plan, self._clock(self.plan.timezone))

    def _drop(self, packet: Packet) -> None:
        packet.token.queue.drop(packet.token.token)

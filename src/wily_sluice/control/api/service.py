"""The gate's second process: keeps the plan's history and the counters, and answers queries.

It ends with the gate. If it ends earlier, the gate starts another.
"""

import asyncio
import os
import signal
import sqlite3
import time
from collections.abc import Callable, Iterable, Mapping
from contextlib import closing, suppress
from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import msgspec

from wily_sluice import __version__
from wily_sluice.control.api.hosts import HostNames, NameBook
from wily_sluice.control.api.ipfix import FlowExport
from wily_sluice.control.api.life import Life, PlanMethods
from wily_sluice.control.api.metrics import Endpoint, Gathered, Totals
from wily_sluice.control.api.notices import EventLog, Notices, Strain
from wily_sluice.control.api.port_mapper import PortMapper
from wily_sluice.control.api.pulse import Pulse
from wily_sluice.control.api.server import Caller, Server, methods_data
from wily_sluice.control.api.snapshot import Snapshot, add_up, conversations_data, look_data, snapshot_data
from wily_sluice.control.json_rpc import (
    Answered,
    HostPortParams,
    LookParams,
    Method,
    NoParams,
    SubscribeParams,
    notification,
)
from wily_sluice.control.link.link import Link, Orders
from wily_sluice.control.link.messages import (
    Event,
    FromGate,
    Heard,
    Interface,
    Opened,
    Rows,
    State,
    Stop,
    Tick,
    Undo,
    Undone,
    Watch,
)
from wily_sluice.control.link.supervisor import boot_clock
from wily_sluice.control.log import Level, note
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.errors import INVALID_PARAMS, REFUSED, RpcError
from wily_sluice.gate.kernel.process import runtime_folder
from wily_sluice.gate.observers import CounterRow
from wily_sluice.history.counter_store import CounterStore
from wily_sluice.history.counts import Counts, Key
from wily_sluice.history.database import MEASUREMENTS
from wily_sluice.history.revisions import RevisionStore
from wily_sluice.history.stores import Happened, MeasurementStore, QuotaStore
from wily_sluice.outside.machine import why_not_compiled
from wily_sluice.plan.model import Plan
from wily_sluice.plan.schedules.moment import period_start
from wily_sluice.ports.mapping_table import PortMapping
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds

WATCHED_PACE: Nanoseconds = 500 * MILLISECOND
QUOTAS_EVERY = 60.0  # seconds
HOUR = 3600
FLEETING = ("uplink.slower", "uplink.faster")  # too many to be kept: steps of lines that vary
MOST_HOSTS = 4096  # in the totals, in both directions together


def _tell(callers: Iterable[Caller], message: dict[str, Any]) -> None:
    if callers:
        line = notification("watch.tick", message)
        for caller in callers:
            caller.tell(line)


class ApiService:
    """Of one gate. `show` is handed each second's counts, for a person who looks on."""

    def __init__(self, link: Link[FromGate], state: Path, show: Callable[[Plan, Snapshot], None] | None) -> None:
        self._state = state
        self._show = show
        self._orders = Orders(link, self._hear, self._end, self._other_version)
        self._over = asyncio.Event()
        store, trouble = None, ""
        try:
            store = RevisionStore(state)
        except (OSError, sqlite3.Error) as error:
            trouble = f"{state}: {error}"
            note("history.unusable", "error", folder=str(state), why=str(error))
        self._counters: CounterStore | None = None
        self._counting = True
        try:
            self._counters = CounterStore(state)
        except (OSError, sqlite3.Error) as error:
            note("counters.unusable", "error", folder=str(state), why=str(error))
        self.life = Life(self._orders, store, trouble)
        self._server = Server(runtime_folder(), self._methods())
        self._since = time.time()
        self._missing: set[str] = set()
        self._rows: list[CounterRow] = []
        self._strain = Strain()
        self._notices = Notices()
        self._quotas_looked = 0.0
        self._events = EventLog(state)
        self._snapped: tuple[float, Answered] | None = None  # of the last tick
        self.other = ""  # the gate's version, where that is not this one
        self._names = NameBook(state)
        self._hosts_called = HostNames()
        self._export = FlowExport()
        self._ports = PortMapper(self._ports_changed, self._happened)
        self._last = Snapshot(0, 0, {})
        self._second: dict[Key, Counts] = {}
        self._second_lasted: Nanoseconds = 0
        self._wanted = (SECOND, False)
        self._hosts = 0  # in the totals, in each direction
        self._pulse = Pulse()
        self._opened: list[tuple[bytes, int, int, str]] = []
        self._answering: set[str] = set()  # before the trial, and not known to have stopped
        self._totals: dict[Key, Counts] = {}
        self._metrics = Endpoint(Gathered(self._gathered))

    async def run(self) -> None:
        """Until the gate ends."""
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            signal.signal(number, signal.SIG_IGN)  # it ends when the gate does
        self._orders.listen()
        try:
            await self._server.begin()
        except OSError as error:
            note("sockets.unusable", "error", why=str(error))
        await self._over.wait()
        self._server.close()
        self._pulse.close()
        self._hosts_called.close()
        self._export.close()
        self._ports.close()
        self._metrics.serve(None)
        self._events.close()
        self._names.write(int(time.time()))
        if self._counters is not None:
            with suppress(sqlite3.Error, OSError):
                self._counters.close()

    def _end(self) -> None:
        self._over.set()

    def _other_version(self, version: str) -> None:
        """The gate was started by another version of the program and keeps running; this one cannot query it."""
        self.other = version
        note("gate.other", "error", gate=version, here=__version__, why=self._restart())

    def _restart(self) -> str:
        return (
            f"the gate runs version {self.other} of the program, and {__version__} is installed now: "
            "restart it (`sluice gate stop`, then `sluice gate run`; or `systemctl restart wily-sluice`)"
        )

    def _hear(self, message: FromGate) -> None:
        """Handle a message from the gate."""
        match message:
            case Rows(rows):
                self._rows += rows
            case Tick():
                self._tick(message)
            case State(revision):
                first = self.life.plan is None
                self._since = time.time() - (boot_clock() - message.begun) / SECOND if message.begun else self._since
                self.life.begin(message)
                self._plan_changed()
                if first:
                    note("gate.running", revision=revision, trial=self.life.trial is not None)
            case Undone():
                self.life.undone(message)
                self._plan_changed()
            case Interface(name, here):
                self._missing = self._missing - {name} if here else self._missing | {name}
                level: Level = "info" if here else "warning"
                self._happened("interface.back" if here else "interface.missing", level, {"interface": name})
            case Event(event, word, about):
                level = "error" if word == "error" else "warning" if word == "warning" else "info"
                self._happened(event, level, about)

    def _happened(self, event: str, level: Level, about: Mapping[str, Any]) -> None:
        """Log an event and store it; send a notice if it needs attention."""
        at = time.time()
        if not event.startswith(FLEETING):
            self._events.add(Happened(at, event, dict(about)))
        if self.life.plan is not None:
            self._notices.tell(self.life.plan, self._notices.event(event, about, time.time()))
        note(event, level, **about)

    def _plan_changed(self) -> None:
        plan = self.life.plan
        if plan is None:
            return
        self._server.let_watch(plan.gate.watchers)
        self._names.keep(plan.gate.keep_contacts, self.life.trial is not None)
        self._hosts_called.follow(plan)
        self._ports.follow(plan)
        try:
            self._pulse.watch(plan.gate.probe)
        except OSError as error:
            note("probes.unusable", "error", why=str(error))
        try:
            self._export.aim(plan.gate.ipfix)
        except OSError as error:
            note("collector.unusable", "error", why=str(error))
        try:
            self._metrics.serve(plan.gate.metrics)
        except OSError as error:
            note("metrics.unusable", "error", port=plan.gate.metrics, why=str(error))

    def _ports_changed(self, mappings: Iterable[PortMapping]) -> None:
        """Tell the gate which services use the open ports."""
        services = [
            (mapping.host, mapping.protocol, mapping.inside, mapping.service) for mapping in mappings if mapping.service
        ]
        if services != self._opened:
            self._opened = services
            self._orders.announce(Opened(services))

    def _look_after_trial(self) -> None:
        """End a trial when a remote that answered before it no longer does."""
        trial = self.life.trial
        if trial is None:
            self._answering = self._pulse.answering()
            return
        silent = sorted(self._answering - self._pulse.answering())
        if silent and not trial.ending:
            trial.ending = True
            note("probe.failed", "warning", revision=trial.revision, silent=silent)
            why = f"{', '.join(silent)} answered before it, and no longer did"
            self._orders.tell(Undo(self._orders.next_number(), why))

    def _tick(self, tick: Tick) -> None:
        at, lasted, talks = tick.at, tick.lasted, tick.talks
        rows, self._rows = self._rows, []
        self._orders.announce(Heard())
        if self.life.try_again():
            self._plan_changed()
        self._strain.hear(tick.health)
        self._names.add(int(at), tick.visits)
        self._look_after_trial()
        counts = add_up(rows)
        self._last = Snapshot(at, lasted, counts)
        for key in self._totals:
            self._totals[key].backlog = self._totals[key].waiting = 0
        for key, count in counts.items():
            if key in self._totals or key.subject != "host" or self._hosts < MOST_HOSTS:
                self._hosts += key.subject == "host" and key not in self._totals
                self._totals.setdefault(key, Counts()).then(count)
        if self.life.plan is None:
            return
        ticks, conversations = self._server.subscribers("ticks"), self._server.subscribers("conversations")
        if ticks or conversations:
            message = self._snapshot(self._last)
            _tell(ticks, message)
            if conversations:
                _tell(
                    conversations,
                    message | {"conversations": conversations_data(self._last, talks, self._hosts_called.known)},
                )
        self._export.add(at, talks)
        wanted = (WATCHED_PACE if ticks or conversations else SECOND, bool(conversations) or self._export.wanted)
        if wanted != self._wanted:
            self._wanted = wanted
            self._orders.tell(Watch(*wanted))
        for key, count in counts.items():
            if key in self._second:
                self._second[key].then(count)
            else:
                self._second[key] = count
        self._second_lasted += lasted
        if self._second_lasted >= SECOND - 100 * MILLISECOND:
            second = Snapshot(self._last.at, self._second_lasted, self._second)
            self._second, self._second_lasted = {}, 0
            self._write_down(second)
            self._hosts_called.saw(key.name for key in second.counts if key.subject == "host")
            self._give_notice(self._plan, second)
            seconds = self._server.subscribers("seconds")
            if seconds:
                _tell(seconds, self._snapshot(second))
            if self._show is not None and self.life.plan is not None:
                self._show(self.life.plan, second)

    def _give_notice(self, plan: Plan, second: Snapshot) -> None:
        """Send notices; those that need files once a minute."""
        notices = self._notices.look(plan, second, self._strain.health.bypassed)
        if second.at - self._quotas_looked >= QUOTAS_EVERY:
            self._quotas_looked = second.at
            if (self._state / MEASUREMENTS).exists():
                with suppress(OSError, sqlite3.Error), closing(MeasurementStore(self._state, 0.2)) as measured:
                    last = measured.between(int(second.at) - HOUR, int(second.at) + 1)
                    notices += self._notices.line(plan, last, second.at)
            moment = datetime.fromtimestamp(second.at, ZoneInfo(plan.timezone))
            for limiter in plan.limiters:
                if limiter.quota is not None and limiter.enabled:
                    period = period_start(limiter.quota.period, limiter.starts, moment).isoformat()
                    with suppress(OSError, sqlite3.Error), closing(QuotaStore(self._state, 0.2)) as store:
                        notices += self._notices.quota(plan, limiter.name, store.used(limiter.name, period), second.at)
        self._notices.tell(plan, notices)

    def _write_down(self, second: Snapshot) -> None:
        """Store a second's counters. A failure is logged once, until storing succeeds again."""
        if self._counters is None:
            return
        try:
            busy = {key: own for key, own in second.counts.items() if not own.idle}
            if self._counters.add(second.at, busy, second.lasted / SECOND):
                self._counting = True
        except (sqlite3.Error, OSError) as error:
            if self._counting:
                note("counters.unwritten", "error", why=str(error))
            self._counting = False

    def _gathered(self) -> Totals:
        life = self.life
        trial = life.trial is not None
        names = self._hosts_called.known
        return Totals(life.plan, self._totals, life.running, trial, self._missing, self._strain.health, names)

    def _snapshot(self, snapshot: Snapshot) -> dict[str, Any]:
        return {**self._summary(), **snapshot_data(self._plan, snapshot, self._hosts_called.known)}

    def _summary(self) -> dict[str, Any]:
        life = self.life
        trial = life.trial
        return {
            "revision": life.running,
            "trial": {"revision": trial.revision, "left": round(life.left() / SECOND, 1)} if trial else None,
            "missing": sorted(self._missing),
            "down": self._strain.health.down,
            "bypassed": self._strain.health.bypassed,
            "strained": self._strain.lasting,
        }

    def _methods(self) -> dict[str, Method]:
        return {
            "gate.status": Method(NoParams, self._status, "state of the gate", watchers=True),
            "gate.methods": Method(NoParams, self._list_methods, "list of methods", watchers=True),
            "gate.stop": Method(NoParams, self._stop, "end the gate: packets bypass it"),
            **PlanMethods(self.life, self._plan_changed, self._summary).table(),
            "classify.look": Method(LookParams, self._look, "state and queue of a conversation"),
            "mappings.list": Method(NoParams, self._mappings, "current mappings", watchers=True),
            "mappings.revoke": Method(HostPortParams, self._revoke, "close mappings of a host, for an hour"),
            "watch.now": Method(NoParams, self._now, "latest counters", watchers=True),
            "watch.subscribe": Method(SubscribeParams, self._subscribe, "counters twice a second", watchers=True),
        }

    @property
    def _plan(self) -> Plan:
        """The plan that runs. RpcError while that is not known."""
        if self.other:
            raise RpcError(REFUSED, self._restart())
        if self.life.plan is None:
            raise RpcError(REFUSED, "the gate is only starting: try again")
        return self.life.plan

    async def _status(self, _: NoParams, __: Caller) -> dict[str, Any]:
        life = self.life
        holder = life.holder
        return {
            **self._summary(),
            "site": self._plan.site,
            "digest": life.digest(),
            "held_by": {"who": holder.who, "since": holder.since, "what": holder.what} if holder else None,
            "uplinks": {
                u.name: {
                    "interface": u.interface,
                    "here": u.interface not in self._missing,
                    "down": u.usable("down"),
                    "up": u.usable("up"),
                }
                for u in self._plan.uplinks
            },
            "since": round(self._since, 3),
            "condition": msgspec.to_builtins(self._strain.health),
            "events": [{"at": round(each.at, 3), "event": each.event} for each in self._events.last],
            "notices": self._notices.data(),
            "version": __version__,
            "slow": why_not_compiled(),
            "state": str(self._state),
            "clients": sum(map(len, self._server.callers.values())),
        }

    async def _list_methods(self, _: NoParams, __: Caller) -> dict[str, Any]:
        return methods_data(self._methods())

    async def _stop(self, _: NoParams, caller: Caller) -> str:
        note("gate.stopped", who=caller.who)
        if self.other:
            os.kill(os.getppid(), signal.SIGTERM)  # which a gate of every version understands
        else:
            await self._orders.give(Stop(self._orders.next_number()))
        return "stopping"

    async def _look(self, params: LookParams, _: Caller) -> dict[str, Any] | None:
        local, remote = params.local.packed, params.remote.packed
        if len(local) != len(remote):
            raise RpcError(
                INVALID_PARAMS, "local is IPv4 and remote IPv6, or the reverse: a conversation has one version"
            )
        key = key_of(Parties(params.protocol, local, remote, params.local_port, params.remote_port))
        answer = await self._orders.ask(key)
        return look_data(answer) if answer is not None else None

    async def _mappings(self, _: NoParams, __: Caller) -> dict[str, Any]:
        plan, names = self._plan, self._hosts_called.known
        return {
            "granted": [grant.name for grant in plan.granting],
            "mappings": self._ports.data(names),
            "refused": self._ports.refused,
        }

    async def _revoke(self, params: HostPortParams, caller: Caller) -> dict[str, Any]:
        ended = self._ports.revoke(params.host.packed, params.protocol, params.port)
        for mapping in ended:
            about = {"who": caller.who, "host": str(params.host), "port": mapping.inside}
            self._happened("mapping.revoked", "info", about)
        return {"ended": len(ended)}

    async def _now(self, _: NoParams, __: Caller) -> Answered:
        """The counters of the last tick, which are put into words once."""
        if self._snapped is None or self._snapped[0] != self._last.at:
            self._snapped = self._last.at, Answered(self._snapshot(self._last))
        return self._snapped[1]

    async def _subscribe(self, params: SubscribeParams, caller: Caller) -> bool:
        caller.subscribed = params.to
        if params.to in ("ticks", "conversations") and self._last.at and self.life.plan is not None:
            _tell([caller], self._snapshot(self._last))  # so that somebody who begins to watch need not wait
        return True

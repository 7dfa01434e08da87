"""Events that are kept, notices for users, and entries in the log about a machine that does not keep up.

Notices for users who are not watching, at most one an hour for each cause.

- a limiter that has held traffic back for 90% of the last five minutes
- a quota that is 80% used
- an uplink that every measurement of an hour found slower than the plan (`sluice gauge line --every`)
- packets that bypassed the gate because it was too slow
- an uplink whose traffic bypassed the gate by more than 0.5% in a minute
- a chain that another program removed, or rules of others ahead of it (`gate.kernel.guard`)
- a port that could not be kept; mappings that cannot be made

A notice is in the log and in `gate status`. The plan may name a receiver: a URL gets it by POST, as JSON; a command
gets its sentence as an argument, and the JSON on standard input.
"""

import asyncio
import json
import shlex
import sqlite3
import time
from asyncio.subprocess import DEVNULL, PIPE
from collections import deque
from collections.abc import Mapping, Sequence
from contextlib import closing, suppress
from dataclasses import asdict, dataclass
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from wily_sluice.control.api.snapshot import Snapshot
from wily_sluice.control.link.messages import Health
from wily_sluice.control.log import note
from wily_sluice.history.counts import Counts, Key
from wily_sluice.history.stores import SLOWER, EventStore, Happened, LineMeasurement
from wily_sluice.plan.model import Plan
from wily_sluice.units import DIRECTIONS, Size, format_rate, format_size

TELL_AGAIN = 60.0  # seconds
BUSY, BUSY_FOR = 0.9, 5.0  # part of the time, and seconds on end, in which the loop works: then the machine is too slow
TOO_SLOW = "packets came faster than they could be taken in: see `sluice gate cost`"
FLOODED = "more conversations opened than could be taken in, so some of their packets were dropped"
STRAINED = "shaping uses a whole core, so rates may not be reached: see `sluice gate cost`"


MOST_UNSTORED, STORED_AFTER = 200, 0.25  # events; seconds


class EventLog:
    """The `last` events, and their store in a folder: some are stored in one step, while the event loop goes on."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self.last: deque[Happened] = deque(maxlen=20)
        self._unstored: list[Happened] = []
        self._storing: asyncio.Task[None] | None = None

    def add(self, happened: Happened) -> None:
        """One more; within a running event loop."""
        self.last.append(happened)
        if len(self._unstored) < MOST_UNSTORED:
            self._unstored.append(happened)
        if self._storing is None:
            self._storing = asyncio.get_running_loop().create_task(self._store_later())

    async def _store_later(self) -> None:
        await asyncio.sleep(STORED_AFTER)
        self._storing, happened, self._unstored = None, self._unstored, []
        await asyncio.to_thread(self._store, happened)

    def _store(self, happened: list[Happened]) -> None:
        with suppress(sqlite3.Error, OSError), closing(EventStore(self._folder, 0.2)) as store:
            store.add(happened)

    def close(self) -> None:
        """Store what is not stored yet."""
        self._store(self._unstored)


class Strain:
    """`health` is the gate's last report."""

    def __init__(self) -> None:
        self.health = Health()
        self._bypassed = self._shed = 0  # as told
        self._told_at: dict[str, float] = {}  # by events
        self._busy_since: float | None = None

    @property
    def lasting(self) -> bool:
        """Whether shaping has taken all of a processor for some time."""
        return self._busy_since is not None and time.monotonic() - self._busy_since >= BUSY_FOR

    def hear(self, health: Health) -> None:
        """Handle the gate's report."""
        before, self.health = self.health, health
        now = time.monotonic()
        if health.busy >= BUSY:
            self._busy_since = self._busy_since or now
        else:
            self._busy_since = None
        busy = round(before.busy, 2)
        if (bypassed := health.bypassed - self._bypassed) > 0 and self._is_due("gate.too_slow", now):
            self._bypassed = health.bypassed
            note("gate.too_slow", "warning", bypassed=bypassed, busy=busy, why=TOO_SLOW)
        if (shed := health.shed - self._shed) > 0 and self._is_due("gate.flooded", now):
            self._shed = health.shed
            note("gate.flooded", "warning", shed=shed, busy=busy, why=FLOODED)
        strained = self._busy_since is not None and now - self._busy_since >= BUSY_FOR
        if strained and bypassed <= 0 and shed <= 0 and self._is_due("gate.strained", now):
            note("gate.strained", "warning", busy=health.busy, late_turns=health.late_turns, why=STRAINED)

    def _is_due(self, event: str, now: float) -> bool:
        """Whether an event was not told a short while ago; if so, it is told now."""
        if now - self._told_at.get(event, -TELL_AGAIN) < TELL_AGAIN:
            return False
        self._told_at[event] = now
        return True


AGAIN = 3600.0  # seconds, for one cause
WINDOW, MOST_OF_IT = 300, 0.9  # seconds over which a limiter is watched, and how much of them it held traffic back
NEARLY = 0.8  # of a quota
BYPASSED = 1000  # packets, since the last notice
MOST_KEPT = 20
PATIENCE = 10.0  # seconds for the receiver
EVENTS = {
    "chain.repaired": "something removed the gate's chain, and traffic bypassed it until it was repaired",
    "chain.bypassed": "a rule of another program is ahead of the gate's chain, and traffic bypasses it",
    "uplink.down": "{uplink} is down, and routes avoid it: {why}",
    "probe.astray": "{remotes} give no answer over {uplink}, while conversations have answers: until one does, these "
    "alone say whether it works",
    "routes.repaired": "something removed routes of the gate: conversations took other uplinks until they were back",
    "route.missing": "there is no default route over {uplink}: conversations for it use the machine's own routes",
    "uplinks.silent": "no probe is answered over any uplink: {uplinks} are used as long as they have a link",
    "device.shared": "{device} in {network} has {addresses} IPv4 addresses and counts as one host: if it is a repeater "
    "or a router, write hosts: by address for {network}",
    "port.moved": "a host in keep-ports got another port, because two hosts would collide: see the log",
    "mappings.unusable": "ports cannot be opened for hosts that ask: the log says why",
    "uplink.bypassed": "more than 0.5% of an uplink's traffic bypasses the gate: `sluice gate status` says how much",
    "uplink.overcounted": "the gate counts more on {uplink} than crosses its interface: it gets packets more than once",
    "chain.unrepaired": "the gate's chain cannot be repaired, and traffic bypasses it",
}


KINDS = {
    "uplink.bypassed": "bypass", "uplink.overcounted": "bypass",
    "chain": "bypass", "device": "device", "port": "mapping", "mappings": "mapping",  # by the first word; else:
}  # fmt: skip
OF_UPLINKS = "uplink"


@dataclass(frozen=True, slots=True)
class Notice:
    """`cause` identifies it; `at` is in seconds since 1970; `words` are for a person."""

    at: float
    kind: str
    cause: str
    words: str


class Notices:
    """Watches a gate, second by second."""

    def __init__(self) -> None:
        self.kept: deque[Notice] = deque(maxlen=MOST_KEPT)
        self._told: dict[str, float] = {}
        self._bites: dict[Key, deque[bool]] = {}
        self._told_bypassed = 0
        self._tasks: set[asyncio.Task[None]] = set()

    def look(self, plan: Plan, second: Snapshot, bypassed: int) -> list[Notice]:
        """New notices of this second."""
        notices = [*self._limiters(plan, second), *self._bypassed(second.at, bypassed)]
        return [notice for notice in notices if self._is_new(notice)]

    def quota(self, plan: Plan, limiter: str, used: Mapping[bytes, Size], at: float) -> list[Notice]:
        """New notices about the use of a limiter's quota."""
        quota = next((each.quota for each in plan.limiters if each.name == limiter), None)
        if quota is None:
            return []
        notices = []
        for account, size in used.items():
            if size >= NEARLY * quota.size:
                who = str(ip_address(account)) if len(account) in (4, 16) else "all together"
                words = f"{who} has used {size / quota.size:.0%} of the {format_size(quota.size)} of {limiter}"
                notices.append(Notice(at, "quota", f"quota {limiter} {account.hex()}", words))
        return [notice for notice in notices if self._is_new(notice)]

    def line(self, plan: Plan, measured: Sequence[LineMeasurement], at: float) -> list[Notice]:
        """New notices about the measurements of the last hour."""
        notices = []
        for uplink in plan.uplinks:
            for way in DIRECTIONS:
                rates = [
                    rate
                    for measurement in measured
                    if measurement.uplink == uplink.name and (rate := getattr(measurement, way))
                ]
                planned = uplink.usable(way)  # measurements cross the gate too, so they find no more than this
                if rates and max(rates) < SLOWER * planned:
                    words = (
                        f"{uplink.name} was slower than the plan {way}: {format_rate(round(max(rates)))} at most in "
                        f"the last hour, not {format_rate(planned)}; packets then queue beyond the gate"
                    )
                    notices.append(Notice(at, "line", f"line {uplink.name} {way}", words))
        return [notice for notice in notices if self._is_new(notice)]

    def event(self, event: str, about: Mapping[str, Any], at: float) -> list[Notice]:
        """New notices about an event of the gate."""
        if event not in EVENTS:
            return []
        cause = " ".join((event, *(str(about[key]) for key in ("uplink", "device") if key in about)))
        kind = KINDS.get(event, KINDS.get(event.partition(".")[0], OF_UPLINKS))
        notice = Notice(at, kind, cause, EVENTS[event].format(**about))
        return [notice] if self._is_new(notice) else []

    def _is_new(self, notice: Notice) -> bool:
        if 0 <= notice.at - self._told.get(notice.cause, -AGAIN) < AGAIN:  # a clock that was set back silences nothing
            return False
        self._told[notice.cause] = notice.at
        self.kept.append(notice)
        return True

    def _limiters(self, plan: Plan, second: Snapshot) -> list[Notice]:
        notices = []
        keys = set()
        for limiter in plan.limiters:
            for way in DIRECTIONS:
                rate = limiter.rate(way)
                if rate is None or not limiter.enabled:
                    continue
                key = Key("limiter", "", way, limiter.name)
                keys.add(key)
                bites = self._bites.setdefault(key, deque(maxlen=WINDOW))
                counts = second.counts.get(key, Counts())
                bites.append(bool(counts.drops or counts.waiting))
                if len(bites) == WINDOW and sum(bites) >= MOST_OF_IT * WINDOW:
                    words = f"{limiter.name} ({format_rate(rate)} {way}) has held traffic back for five minutes"
                    notices.append(Notice(second.at, "limiter", f"limiter {limiter.name} {way}", words))
        for key in self._bites.keys() - keys:
            del self._bites[key]
        return notices

    def _bypassed(self, at: float, bypassed: int) -> list[Notice]:
        if bypassed - self._told_bypassed < BYPASSED:
            self._told_bypassed = min(self._told_bypassed, bypassed)
            return []
        more = bypassed - self._told_bypassed
        words = f"{more:,} packets bypassed the gate, which did not keep up: see `sluice gate cost`"
        self._told_bypassed = bypassed
        return [Notice(at, "bypass", "bypassed", words)]

    def tell(self, plan: Plan, notices: list[Notice]) -> None:
        """Writes to the log, and sends to the plan's receiver; within a running event loop."""
        for notice in notices:
            note("notice", "warning", kind=notice.kind, words=notice.words)
            if plan.gate.notify is not None:
                task = asyncio.get_running_loop().create_task(_deliver(plan.gate.notify, plan.site, notice))
                self._tasks.add(task)
                task.add_done_callback(self._tasks.discard)

    def data(self) -> list[dict[str, Any]]:
        """The latest notices for JSON, the oldest first."""
        return [asdict(notice) for notice in self.kept]


async def _deliver(to: str, site: str, notice: Notice) -> None:
    """Send a notice; a failure is logged."""
    content = {"site": site, **asdict(notice)}
    try:
        async with asyncio.timeout(PATIENCE):
            await (_post(to, content) if to.startswith(("http://", "https://")) else _run(to, content))
    except (OSError, ValueError, TimeoutError) as error:
        note("notice.undelivered", "warning", to=to, why=str(error) or f"it took more than {PATIENCE:.0f} s")


async def _post(address: str, content: dict[str, Any]) -> None:
    import aiohttp

    try:
        async with aiohttp.ClientSession() as session, session.post(address, json=content) as answer:
            if answer.status >= 300:
                raise ValueError(f"it answers with status {answer.status}")
    except aiohttp.ClientError as error:
        raise OSError(str(error) or type(error).__name__) from None


async def _run(command: str, content: dict[str, Any]) -> None:
    words = shlex.split(command)
    program = await asyncio.create_subprocess_exec(
        *words, str(content["words"]), stdin=PIPE, stdout=DEVNULL, stderr=DEVNULL, cwd=Path("/"), start_new_session=True
    )
    try:
        await program.communicate(json.dumps(content).encode() + b"\n")
    finally:
        with suppress(ProcessLookupError):
            if program.returncode is None:
                program.kill()
    if program.returncode:
        raise ValueError(f"{words[0]} ended with status {program.returncode}")

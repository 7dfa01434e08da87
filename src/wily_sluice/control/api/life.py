"""The life of a plan: applied on trial, kept or undone, one change at a time, each in the history.

The order of the steps makes a crash harmless. Applying: the revision is recorded as a trial, then the gate switches to
it. Keeping: the gate stops the trial's clock, then the revision is recorded as kept, then the gate ends the trial. The
next start uses the revision last recorded as kept, whatever happens in between.
"""

import asyncio
import sqlite3
import time
from base64 import b64decode, b64encode
from binascii import Error as Base64Error
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, TypeVar

from wily_sluice.control.api.server import Caller
from wily_sluice.control.api.snapshot import revision_data
from wily_sluice.control.json_rpc import ApplyParams, ListParams, Method, NoParams, RevisionParams, UndoParams
from wily_sluice.control.link.link import PATIENCE, Orders
from wily_sluice.control.link.messages import Hold, Kept, Resume, State, Take, Undo, Undone
from wily_sluice.control.link.supervisor import boot_clock
from wily_sluice.control.log import note
from wily_sluice.errors import BUSY, INVALID_PARAMS, REFUSED, RpcError
from wily_sluice.history.revisions import BACK_TO, Revision, RevisionStore
from wily_sluice.plan.file.bundle import Bundle
from wily_sluice.plan.model import Plan
from wily_sluice.units import SECOND, Nanoseconds, iso_time

T = TypeVar("T")
MOST_PLANS = 3  # that are kept as they were read


def moment() -> str:
    """Now, in UTC, to a second (ISO 8601)."""
    return iso_time(time.time(), precision="seconds")


@dataclass(frozen=True, slots=True)
class Holder:
    """Who is changing the plan, since when, and why."""

    who: str
    since: str
    what: str


@dataclass(slots=True)
class OnTrial:
    """`ends` is on the boot clock; `before_revision` is the one that returns."""

    revision: int
    ends: Nanoseconds
    before_revision: int
    ending: bool = False


class Life:
    """Of one gate. `store` is None if the history cannot be used, and `trouble` says why."""

    def __init__(self, orders: Orders, store: RevisionStore | None, trouble: str = "") -> None:
        self._orders = orders
        self._store = store
        self._trouble = trouble
        self.holder: Holder | None = None
        self.trial: OnTrial | None = None
        self.running = 0
        self.plan: Plan | None = None
        self._bundle: Bundle | None = None
        self._plans: list[tuple[Bundle, Plan]] = []  # the last that were read

    def begin(self, state: State) -> None:
        """Take note of the gate's report: when it starts, when this process is new, and after every change. RpcError if
        its plan cannot be read here.
        """
        known = self.running == state.revision and self.plan is not None
        self.running = state.revision
        past = state.trial
        self.trial = OnTrial(state.revision, past.ends, past.before_revision) if past is not None else None
        if not known or self._bundle != state.bundle:
            self._bundle = state.bundle
            self.plan = self._plan_of(state.bundle)
        if known:
            return
        if self._store is not None:
            try:
                self._set_right(state)
            except sqlite3.Error as error:
                note("history.unusable", "error", why=str(error))
        if self.trial is not None and self.holder is None:
            self.holder = Holder("somebody", moment(), f"trial of revision {state.revision}")

    def _plan_of(self, bundle: Bundle) -> Plan | None:
        """A plan, read again unless it is fresh; None if it cannot be read."""
        for known, plan in self._plans:
            if known == bundle:
                return plan
        try:
            read, _ = bundle.examine()
        except OSError as error:
            note("plan.unreadable", "error", why=str(error))
            return None
        if read is not None:
            self._remember(bundle, read)
        return read

    def try_again(self) -> bool:
        """Read the running plan, if it could not be read before. True if it has become known."""
        if self.plan is not None or self._bundle is None:
            return False
        self.plan = self._plan_of(self._bundle)
        return self.plan is not None

    def _remember(self, bundle: Bundle, plan: Plan) -> None:
        self._plans = [(bundle, plan), *self._plans][:MOST_PLANS]

    def _set_right(self, state: State) -> None:
        """Bring the history in line with the gate: record changes from before this process began."""
        store = self.history
        kept = store.kept()
        if self.trial is not None and kept is not None and kept.number == state.revision:
            self.trial = None
            self._orders.tell(Kept(self._orders.next_number()))
        now = store.revision(state.revision)
        if self.trial is None and self.holder is None and now is not None and now.state == "trial":
            store.keep(state.revision, moment())  # applied for good, but that could not be recorded in time
        if self.holder is None:
            store.end_trials(self.trial.revision if self.trial else None, moment(), "the gate ended")

    def undone(self, undone: Undone) -> None:
        """The gate has returned to the plan before the trial."""
        self.running, self._bundle = undone.running, undone.bundle
        self.plan = self._plan_of(undone.bundle)
        self.trial = self.holder = None
        note("trial.undone", "warning", revision=undone.revision, running=undone.running, why=undone.why)
        try:
            if self._store is not None:
                self._store.end(undone.revision, "undone", moment(), undone.why)
        except sqlite3.Error as error:
            note("history.unwritten", "error", revision=undone.revision, why=str(error))

    @property
    def history(self) -> RevisionStore:
        """The history. RpcError if it cannot be used."""
        if self._store is None:
            raise RpcError(REFUSED, f"the history cannot be used: {self._trouble}")
        return self._store

    @contextmanager
    def _alone(self, who: str, what: str) -> Iterator[None]:
        """Make a change, with no other at the same time."""
        if self.holder is not None:
            busy = self.holder
            message = f"{busy.who} is at it: {busy.what}, since {busy.since}"
            data = {"who": busy.who, "since": busy.since, "what": busy.what}
            if self.trial is not None:
                message += f"; `sluice keep` or `sluice undo` it first, or wait {self.left() / SECOND:.0f} s"
            raise RpcError(BUSY, message, data)
        self.holder = Holder(who, moment(), what)
        try:
            yield
        finally:
            if self.trial is None:
                self.holder = None

    def left(self) -> Nanoseconds:
        """The time that the trial has left."""
        return max(0, self.trial.ends - boot_clock()) if self.trial is not None else 0

    async def apply(
        self, bundle: Bundle, who: str, remark: str, trial: Nanoseconds | None, base: str | None
    ) -> Revision:
        """Switch to a plan: on trial, or for good if `trial` is None. RpcError if it is refused.

        `base` is the digest of the plan that the caller took to be running.
        """
        with self._alone(who, "applying a plan"):
            if base is not None and base != self.digest():
                raise RpcError(REFUSED, "another plan was applied since: compare it with `sluice diff`")
            plan, findings = await asyncio.to_thread(bundle.examine)
            if plan is None:
                errors = [str(finding) for finding in findings if finding.severity == "error"]
                raise RpcError(REFUSED, "the plan has errors", errors)
            self._remember(bundle, plan)
            before_revision, before = self.running, self._bundle
            revision = self._written(lambda: self.history.record(bundle, moment(), who, remark))
            trouble = await self._take(bundle, revision.number, trial)
            if trouble:
                self._written(lambda: self.history.end(revision.number, "refused", moment(), trouble))
                raise RpcError(REFUSED, f"the gate goes on as it was: {trouble}")
            if trial is None:
                try:
                    self._written(lambda: self.history.keep(revision.number, moment()))
                except RpcError:  # a plan that is not recorded is not used
                    if before is not None:
                        await self._take(before, before_revision, None)
                    raise
            self.running, self.plan, self._bundle = revision.number, plan, bundle
            if trial is not None:
                self.trial = self.trial or OnTrial(revision.number, boot_clock() + trial, before_revision)
                assert self.holder is not None
                self.holder = Holder(who, self.holder.since, f"trial of revision {revision.number}")
            note("plan.applied", revision=revision.number, who=who, trial=trial is not None, digest=bundle.digest[:12])
            return revision

    async def _take(self, bundle: Bundle, revision: int, trial: Nanoseconds | None) -> str:
        """Switch the gate to a plan, within the time that we wait or not at all."""
        until = boot_clock() + round((PATIENCE - 5) * SECOND)
        return await self._orders.give(Take(self._orders.next_number(), bundle, revision, trial, until))

    def digest(self) -> str | None:
        """The details of the running revision."""
        revision = self._store.revision(self.running) if self._store is not None else None
        return revision.digest if revision is not None else None

    async def keep(self, who: str) -> int:
        """Keep the plan on trial."""
        trial = self.trial
        if trial is None:
            raise RpcError(REFUSED, f"nothing is on trial: revision {self.running} is kept already")
        trouble = await self._orders.give(Hold(self._orders.next_number(), trial.revision))
        if trouble:
            raise RpcError(REFUSED, trouble)
        try:
            self._written(lambda: self.history.keep(trial.revision, moment()))
        except RpcError:
            await self._orders.give(Resume(self._orders.next_number()))
            raise
        self.trial = self.holder = None
        await self._orders.give(Kept(self._orders.next_number()))
        note("plan.kept", revision=trial.revision, who=who)
        return trial.revision

    async def undo(self, who: str, number: int | None, trial: Nanoseconds | None) -> tuple[int, str]:
        """End a trial; otherwise return to a revision, by default the one kept before. Returns the one then running."""
        if self.trial is not None:
            if number is not None:
                raise RpcError(REFUSED, f"revision {self.trial.revision} is on trial: end that first, by `sluice undo`")
            revision = self.trial.revision
            trouble = await self._orders.give(Undo(self._orders.next_number(), f"{who} undid it"))
            if trouble:
                raise RpcError(REFUSED, trouble)
            for _ in range(200):
                if self.running != revision:
                    return self.running, "undone"
                await asyncio.sleep(0.05)
            raise RpcError(REFUSED, "the gate has not gone back yet; it keeps trying")
        target = self.history.revision(number) if number is not None else self.history.kept_before(self.running)
        if target is None:
            what = f"no revision {number}" if number is not None else "nothing that was kept before"
            raise RpcError(REFUSED, f"there is {what}: see `sluice history`")
        bundle = self.history.bundle(target.number)
        assert bundle is not None
        revision_now = await self.apply(bundle, who, f"{BACK_TO}{target.number}", trial, None)
        return revision_now.number, "applied"

    def _written(self, write: Callable[[], T]) -> T:
        """Write to the history. RpcError if that fails."""
        try:
            return write()
        except (sqlite3.Error, OSError) as error:
            raise RpcError(REFUSED, f"the history cannot be written, and nothing is changed: {error}") from None


class PlanMethods:
    """The methods of one gate with its `life`. `changed` is called after each change; answers include `summary`."""

    def __init__(self, life: Life, changed: Callable[[], None], summary: Callable[[], dict[str, Any]]) -> None:
        self._life = life
        self._changed = changed
        self._summary = summary

    def table(self) -> dict[str, Method]:
        """The methods by their names."""
        return {
            "plan.apply": Method(ApplyParams, self._apply, "go on by another plan, on trial"),
            "plan.keep": Method(NoParams, self._keep, "keep the plan on trial"),
            "plan.undo": Method(UndoParams, self._undo, "end a trial, or go back to an earlier revision"),
            "plan.read": Method(RevisionParams, self._read, "a revision's plan and files"),
            "history.list": Method(ListParams, self._history, "the revisions, the newest first"),
        }

    async def _apply(self, params: ApplyParams, caller: Caller) -> dict[str, Any]:
        bundle = Bundle(_bytes(params.plan), {name: _bytes(content) for name, content in params.files.items()})
        trial = round(params.trial * SECOND) if params.trial is not None else None
        revision = await self._life.apply(bundle, caller.who, params.note, trial, params.base)
        self._changed()
        return {**self._summary(), "revision": revision.number, "digest": revision.digest}

    async def _keep(self, _: NoParams, caller: Caller) -> dict[str, Any]:
        revision = await self._life.keep(caller.who)
        self._changed()
        return {"revision": revision}

    async def _undo(self, params: UndoParams, caller: Caller) -> dict[str, Any]:
        trial = round(params.trial * SECOND) if params.trial is not None else None
        revision, how = await self._life.undo(caller.who, params.revision, trial)
        self._changed()
        now = self._life.history.revision(revision)
        site = self._life.plan.site if self._life.plan is not None else ""
        return {**self._summary(), "revision": revision, "how": how, "note": now.note if now else "", "site": site}

    async def _read(self, params: RevisionParams, _: Caller) -> dict[str, Any]:
        number = params.revision if params.revision is not None else self._life.running
        bundle = self._life.history.bundle(number)
        if bundle is None:
            raise RpcError(INVALID_PARAMS, f"there is no revision {number}")
        return {
            "revision": number,
            "digest": bundle.digest,
            "plan": b64encode(bundle.plan).decode(),
            "files": {name: b64encode(content).decode() for name, content in bundle.files.items()},
        }

    async def _history(self, params: ListParams, _: Caller) -> dict[str, Any]:
        kept = self._life.history.kept()
        return {
            **self._summary(),
            "kept": kept.number if kept is not None else None,
            "revisions": [revision_data(revision) for revision in self._life.history.revisions(params.rows)],
        }


def _bytes(text: str) -> bytes:
    try:
        return b64decode(text, validate=True)
    except Base64Error:
        raise RpcError(INVALID_PARAMS, "files must be in base64 (RFC 4648)") from None

"""The methods about plans: switch to another, keep it, undo it, list them."""

from base64 import b64decode, b64encode
from binascii import Error as Base64Error
from collections.abc import Callable
from typing import Any

from wily_sluice.control.api.life import Life
from wily_sluice.control.api.server import Caller
from wily_sluice.control.api.snapshot import revision_data
from wily_sluice.control.json_rpc import ApplyParams, ListParams, Method, NoParams, RevisionParams, UndoParams
from wily_sluice.control.rpc_error import INVALID_PARAMS, RpcError
from wily_sluice.plan.file.bundle import Bundle
from wily_sluice.units import SECOND


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

"""JSON-RPC 2.0 (https://www.jsonrpc.org/specification), a message per line; and the parameters of the gate's methods.

The answer to any line is a line of JSON or none; client input never raises an exception here.
"""

import json
from collections.abc import Awaitable, Callable, Mapping
from typing import Any, Literal, TypeAlias

from pydantic import BaseModel, ConfigDict, Field, IPvAnyAddress, ValidationError

from wily_sluice.control.log import note
from wily_sluice.errors import (
    INTERNAL_ERROR,
    INVALID_PARAMS,
    INVALID_REQUEST,
    METHOD_NOT_FOUND,
    PARSE_ERROR,
    RpcError,
)
from wily_sluice.units import Size

Subscription: TypeAlias = Literal["ticks", "conversations", "seconds"]
MOST_IN_A_BATCH = 100
MOST_ANSWERED: Size = 64 << 20  # bytes of a batch
RawParams: TypeAlias = Any


class Method:
    """A method: a model of its parameters, and what answers. `watchers` says that who may only watch may call it."""

    def __init__(
        self, params: type[BaseModel], answer: Callable[[Any, Any], Awaitable[Any]], about: str, watchers: bool = False
    ) -> None:
        self.params = params
        self.answer = answer
        self.about = about
        self.watchers = watchers


class Answered:
    """A result that is put into JSON once, for however many ask."""

    def __init__(self, result: Any) -> None:
        self.text = _text(result)


async def respond(
    line: bytes,
    methods: Mapping[str, Method],
    caller: Any,
    most: Size = MOST_ANSWERED,
    rest: Callable[[], Awaitable[None]] | None = None,
) -> bytes | None:
    """Answer a line; None if no answer is due. `caller` is passed to the methods. The answers of a batch have `most`
    bytes; after each, the caller may have to `rest`.
    """
    try:
        message = json.loads(line)
    except (ValueError, RecursionError):
        return _line(_failure(None, RpcError(PARSE_ERROR, "not a line of JSON")))
    if not isinstance(message, list):
        return _ended(await _respond_one(message, methods, caller))
    if not 0 < len(message) <= MOST_IN_A_BATCH:
        error = RpcError(INVALID_REQUEST, f"a batch holds from 1 to {MOST_IN_A_BATCH} calls")
        return _line(_failure(None, error))
    answers: list[str] = []
    size = 0
    for each in message:
        if size > most:
            error = RpcError(INVALID_REQUEST, f"the answers of a batch have {most} bytes at most")
            answers.append(_text(_failure(each.get("id") if isinstance(each, dict) else None, error)))
            continue
        answer = await _respond_one(each, methods, caller)
        if answer is not None:
            answers.append(answer)
            size += len(answer)
        if rest is not None:
            await rest()
    return _ended(f"[{','.join(answers)}]") if answers else None


async def _respond_one(message: Any, methods: Mapping[str, Method], caller: Any) -> str | None:
    if (
        not isinstance(message, dict)
        or message.get("jsonrpc") != "2.0"
        or not isinstance(message.get("method"), str)
        or not isinstance(message.get("id"), str | int | None)
        or isinstance(message.get("id"), bool)
    ):
        error = RpcError(INVALID_REQUEST, 'a call has `jsonrpc: "2.0"`, a `method`, and a string or number as `id`')
        return _text(_failure(None, error))
    try:
        result = await _call(message["method"], message.get("params", {}), methods, caller)
        words = result.text if isinstance(result, Answered) else _text(result)
        answer = f'{{"jsonrpc":"2.0","id":{_text(message.get("id"))},"result":{words}}}'
    except RpcError as error:
        answer = _text(_failure(message.get("id"), error))
    except Exception as error:  # a fault of ours is the caller's to know, and no reason to end
        note("call.failed", "error", method=message["method"], why=repr(error))
        answer = _text(_failure(message.get("id"), RpcError(INTERNAL_ERROR, "that failed, by a fault of the program")))
    return answer if "id" in message else None


async def _call(name: str, raw: Any, methods: Mapping[str, Method], caller: Any) -> Any:
    method = methods.get(name)
    if method is None:
        raise RpcError(METHOD_NOT_FOUND, f"there is no method {name[:80]!r} here; known are {', '.join(methods)}")
    fields = list(method.params.model_fields)
    if isinstance(raw, list):
        if len(raw) > len(fields):
            raise RpcError(INVALID_PARAMS, f"{name} takes {len(fields)} parameters at most")
        raw = dict(zip(fields, raw, strict=False))
    try:
        params = method.params.model_validate(raw)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise RpcError(INVALID_PARAMS, f"{name}: {where + ': ' if where else ''}{first['msg']}") from None
    return await method.answer(params, caller)


def _failure(number: Any, error: RpcError) -> dict[str, Any]:
    return {"jsonrpc": "2.0", "id": number, "error": error.as_json()}


def notification(method: str, params: Any) -> bytes:
    """A line that wants no answer."""
    return _line({"jsonrpc": "2.0", "method": method, "params": params})


def _text(answer: Any) -> str:
    return json.dumps(answer, ensure_ascii=False, separators=(",", ":"))


def _ended(text: str | None) -> bytes | None:
    return text.encode("utf-8", "replace") + b"\n" if text is not None else None


def _line(answer: Any) -> bytes:
    return _text(answer).encode("utf-8", "replace") + b"\n"


LONGEST_TRIAL = 24 * 3600  # seconds


class Params(BaseModel):
    """What a method takes."""

    model_config = ConfigDict(extra="forbid")


class NoParams(Params):
    """Nothing."""


class ApplyParams(Params):
    """`plan` and `files` in base64, files by the names that the plan gives; `trial` in seconds."""

    plan: str
    files: dict[str, str] = {}
    note: str = Field(default="", max_length=1000)
    trial: float | None = Field(default=180, ge=1, le=LONGEST_TRIAL)
    base: str | None = None


class UndoParams(Params):
    """A revision to go back to; `trial` in seconds."""

    revision: int | None = Field(default=None, ge=1, le=1 << 62)
    trial: float | None = Field(default=None, ge=1, le=LONGEST_TRIAL)


class ListParams(Params):
    """How many at most."""

    rows: int = Field(default=50, ge=1, le=10_000)


class RevisionParams(Params):
    """Which one; by default the running one."""

    revision: int | None = Field(default=None, ge=1, le=1 << 62)


class HostPortParams(Params):
    """A host, and one of its ports by protocol number (IANA); the default is all its mappings."""

    host: IPvAnyAddress
    protocol: int | None = Field(default=None, ge=0, le=255)
    port: int | None = Field(default=None, ge=1, le=65_535)


class LookParams(Params):
    """A conversation: its protocol by number (IANA), both addresses and ports, 0 where it has none."""

    protocol: int = Field(ge=0, le=255)
    local: IPvAnyAddress
    local_port: int = Field(default=0, ge=0, le=65_535)
    remote: IPvAnyAddress
    remote_port: int = Field(default=0, ge=0, le=65_535)


class SubscribeParams(Params):
    """Ticks are sent twice a second; with conversations, these are counted too. None ends the subscription."""

    to: Subscription | None = "ticks"

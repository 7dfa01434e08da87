"""JSON-RPC 2.0 (https://www.jsonrpc.org/specification), one message per line: single calls, notifications and batches.

The answer to any line is a line of JSON or none; client input never raises an exception here.
"""

import json
from collections.abc import Awaitable, Callable, Mapping
from typing import Any, TypeAlias

from pydantic import BaseModel, ValidationError

from wily_sluice.control.log import note
from wily_sluice.control.rpc_error import (
    INTERNAL_ERROR,
    INVALID_PARAMS,
    INVALID_REQUEST,
    METHOD_NOT_FOUND,
    PARSE_ERROR,
    RpcError,
)

MOST_IN_A_BATCH = 100

Params: TypeAlias = Any


class Method:
    """A method: a model of its parameters, and what answers. `watchers` says that who may only watch may call it."""

    def __init__(
        self, params: type[BaseModel], answer: Callable[[Any, Any], Awaitable[Any]], about: str, watchers: bool = False
    ) -> None:
        self.params = params
        self.answer = answer
        self.about = about
        self.watchers = watchers


async def respond(line: bytes, methods: Mapping[str, Method], caller: Any) -> bytes | None:
    """Answer a line; None if no answer is due. `caller` is passed to the methods."""
    try:
        message = json.loads(line)
    except (ValueError, RecursionError):
        return _line(_failure(None, RpcError(PARSE_ERROR, "not a line of JSON")))
    if not isinstance(message, list):
        answer = await _respond_one(message, methods, caller)
        return _line(answer) if answer is not None else None
    if not 0 < len(message) <= MOST_IN_A_BATCH:
        error = RpcError(INVALID_REQUEST, f"a batch holds from 1 to {MOST_IN_A_BATCH} calls")
        return _line(_failure(None, error))
    answers = [await _respond_one(one, methods, caller) for one in message]
    told = [answer for answer in answers if answer is not None]
    return _line(told) if told else None


async def _respond_one(message: Any, methods: Mapping[str, Method], caller: Any) -> dict[str, Any] | None:
    if (
        not isinstance(message, dict)
        or message.get("jsonrpc") != "2.0"
        or not isinstance(message.get("method"), str)
        or not isinstance(message.get("id"), str | int | None)
        or isinstance(message.get("id"), bool)
    ):
        error = RpcError(INVALID_REQUEST, 'a call has `jsonrpc: "2.0"`, a `method`, and a string or number as `id`')
        return _failure(None, error)
    try:
        result = await _call(message["method"], message.get("params", {}), methods, caller)
        answer = {"jsonrpc": "2.0", "id": message.get("id"), "result": result}
    except RpcError as error:
        answer = _failure(message.get("id"), error)
    except Exception as error:  # a fault of ours is the caller's to know, and no reason to end
        note("call.failed", "error", method=message["method"], why=repr(error))
        answer = _failure(message.get("id"), RpcError(INTERNAL_ERROR, "that failed, by a fault of the program"))
    return answer if "id" in message else None


async def _call(name: str, given: Any, methods: Mapping[str, Method], caller: Any) -> Any:
    method = methods.get(name)
    if method is None:
        raise RpcError(METHOD_NOT_FOUND, f"there is no method {name[:80]!r} here; known are {', '.join(methods)}")
    fields = list(method.params.model_fields)
    if isinstance(given, list):
        if len(given) > len(fields):
            raise RpcError(INVALID_PARAMS, f"{name} takes {len(fields)} parameters at most")
        given = dict(zip(fields, given, strict=False))
    try:
        params = method.params.model_validate(given)
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


def _line(answer: Any) -> bytes:
    return json.dumps(answer, ensure_ascii=False, separators=(",", ":")).encode("utf-8", "replace") + b"\n"

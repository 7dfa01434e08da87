import asyncio
import json
import random
from typing import Any

import pytest
from pydantic import BaseModel, ConfigDict

from wily_sluice.control.json_rpc import Method, respond
from wily_sluice.errors import RpcError


class Subtraction(BaseModel):
    model_config = ConfigDict(extra="forbid")
    minuend: int
    subtrahend: int


class Nothing(BaseModel):
    model_config = ConfigDict(extra="forbid")


async def subtract(params: Subtraction, _: Any) -> int:
    return params.minuend - params.subtrahend


async def refuse(_: Nothing, __: Any) -> None:
    raise RpcError(1, "no", ["why"])


async def stumble(_: Nothing, __: Any) -> None:
    raise ZeroDivisionError


METHODS = {
    "subtract": Method(Subtraction, subtract, ""),
    "refuse": Method(Nothing, refuse, ""),
    "stumble": Method(Nothing, stumble, ""),
}


def answer(line: str | bytes) -> Any:
    told = asyncio.run(respond(line.encode() if isinstance(line, str) else line, METHODS, None))
    return json.loads(told) if told is not None else None


@pytest.mark.parametrize(
    ("call", "expected"),
    [  # the examples of the specification, §7
        ('{"jsonrpc": "2.0", "method": "subtract", "params": [42, 23], "id": 1}', 19),
        ('{"jsonrpc": "2.0", "method": "subtract", "params": {"subtrahend": 23, "minuend": 42}, "id": 3}', 19),
        ('{"jsonrpc": "2.0", "method": "subtract", "params": [42, 23]}', None),
        ('{"jsonrpc": "2.0", "method": "foobar", "id": "1"}', -32601),
        ('{"jsonrpc": "2.0", "method": "foobar, "params": "bar", "baz]', -32700),
        ('{"jsonrpc": "2.0", "method": 1, "params": "bar"}', -32600),
        ("[]", -32600),
        ("[1]", [-32600]),
        ("[1,2,3]", [-32600] * 3),
        ('[{"jsonrpc": "2.0", "method": "subtract", "params": [1, 1]}]', None),
        ('[{"jsonrpc":"2.0","method":"subtract","params":[2,1],"id":"9"},{"foo":"boo"}]', [1, -32600]),
        ('{"jsonrpc": "2.0", "method": "subtract", "params": [1, 2, 3], "id": 1}', -32602),
        ('{"jsonrpc": "2.0", "method": "subtract", "params": {"minuend": "x"}, "id": 1}', -32602),
        ('{"jsonrpc": "2.0", "method": "refuse", "id": 1}', 1),
        ('{"jsonrpc": "2.0", "method": "stumble", "id": 1}', -32603),
        ("[" * 100_000, -32700),
        ('{"jsonrpc": "2.0", "method": "\\ud800", "id": 1}', -32601),
    ],
)
def test_every_line_is_answered_as_the_specification_says(call: str, expected: Any) -> None:
    def gist(one: Any) -> Any:
        assert one["jsonrpc"] == "2.0"
        return one["error"]["code"] if "error" in one else one["result"]

    told = answer(call)
    assert (told if told is None else [*map(gist, told)] if isinstance(told, list) else gist(told)) == expected


@pytest.mark.parametrize("count", [2_000, pytest.param(100_000, marks=pytest.mark.slow)])
def test_no_noise_raises_or_goes_unanswered(count: int) -> None:
    drawn = random.Random(count)
    seeds = [
        b'{"jsonrpc": "2.0", "method": "subtract", "params": {"minuend": 42, "subtrahend": 23}, "id": 1}',
        b'[{"jsonrpc": "2.0", "method": "refuse", "id": "a"}, {"jsonrpc": "2.0", "method": "subtract", "id": null}]',
    ]

    async def all_of_them() -> None:
        for _ in range(count):
            line = bytearray(drawn.choice(seeds))
            for _ in range(drawn.randrange(1, 8)):
                index = drawn.randrange(len(line))
                what = drawn.randrange(3)
                if what == 0:
                    line[index] = drawn.randrange(256)
                elif what == 1:
                    del line[index : index + drawn.randrange(1, 9)]
                else:
                    line[index:index] = drawn.choice([b"{", b"]", b'"', b"1e999", b"null", b"\\u0000", bytes(3), b"-"])
                line = line or bytearray(b"x")
            told = await respond(bytes(line), METHODS, None)
            if told is not None:
                json.loads(told)
                assert told.endswith(b"\n")
                assert told.count(b"\n") == 1

    asyncio.run(all_of_them())

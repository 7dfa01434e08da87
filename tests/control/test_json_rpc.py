import asyncio
import json
import random
import time
from pathlib import Path
from typing import Any

import pytest
from pydantic import BaseModel, ConfigDict

from wily_sluice.control.api.server import MOST_WATCHED, Server
from wily_sluice.control.json_rpc import Answered, Method, respond
from wily_sluice.errors import RpcError
from wily_sluice.gate.kernel.process import CONTROL, WATCH


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


class Ticking(BaseModel):
    model_config = ConfigDict(extra="forbid")


def test_those_who_may_watch_take_a_part_of_the_time_and_so_many_bytes(tmp_path: Path) -> None:
    """A hundred heavy calls in one line, and five who send such: somebody who may change things waits for none."""

    async def heavy(_: Ticking, __: Any) -> str:
        begun = time.thread_time()
        while time.thread_time() - begun < 0.02:
            pass
        return "x" * 100_000

    async def quick(_: Ticking, __: Any) -> int:
        return 1

    methods = {"heavy": Method(Ticking, heavy, "", watchers=True), "quick": Method(Ticking, quick, "")}
    batch = json.dumps([{"jsonrpc": "2.0", "method": "heavy", "id": n} for n in range(100)]).encode() + b"\n"

    async def run() -> tuple[list[float], float, int]:
        server = Server(tmp_path / "run", methods)
        await server.begin()
        watchers = []
        for _ in range(5):
            _, writer = watcher = await asyncio.open_unix_connection(tmp_path / "run" / WATCH, limit=1 << 26)
            writer.write(batch)
            watchers.append(watcher)
        reader, writer = await asyncio.open_unix_connection(tmp_path / "run" / CONTROL)
        waits, begun, used = [], time.monotonic(), time.thread_time()
        while time.monotonic() - begun < 2:
            asked = time.monotonic()
            writer.write(b'{"jsonrpc":"2.0","method":"quick","id":1}\n')
            await reader.readline()
            waits.append(time.monotonic() - asked)
            await asyncio.sleep(0.02)
        part = (time.thread_time() - used) / (time.monotonic() - begun)
        for _, other in watchers[1:]:
            other.close()
        answers = json.loads(await asyncio.wait_for(watchers[0][0].readline(), 60))
        size = sum(len(answer.get("result", "")) for answer in answers)
        assert len(answers) == 100 and "bytes at most" in answers[-1]["error"]["message"]
        server.close()
        return waits, part, size

    waits, part, size = asyncio.run(run())
    assert sorted(waits)[-4] < 0.2 and part < 0.7 and MOST_WATCHED <= size <= MOST_WATCHED + 200_000


def test_an_answer_for_many_is_put_into_words_once(monkeypatch: pytest.MonkeyPatch) -> None:
    often = 0

    class Counting(dict[str, int]):
        def items(self) -> Any:
            nonlocal often
            often += 1
            return super().items()

    made = Answered(Counting(a=1))
    before = often

    async def tick(_: Nothing, __: Any) -> Answered:
        return made

    methods = {"tick": Method(Nothing, tick, "")}
    for _ in range(3):
        told = asyncio.run(respond(b'{"jsonrpc":"2.0","method":"tick","id":"\xc3\xa4"}', methods, None))
        assert told is not None and json.loads(told) == {"jsonrpc": "2.0", "id": "ä", "result": {"a": 1}}
    assert often == before

"""The far side of proofs floods nobody but who has the key, and no more than is allowed."""

import asyncio
import json
import socket
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import closing

import pytest
from aiohttp import web

from wily_sluice.errors import LiveError
from wily_sluice.gauge.far import FarEnd
from wily_sluice.gauge.proofs import MOST_ENDS, Proofs
from wily_sluice.proving.far_side import FarSide
from wily_sluice.rig.promises.traffic_program import token

KEY, OTHER = b"a key of the two machines", b"another key of some length"
PROGRAM = (sys.executable, "-P", "-m", "wily_sluice.rig.promises.traffic_program")
MS = 1_000_000


@pytest.fixture
def port() -> Iterator[int]:
    """Of a far end on the loopback address, whose floods have at most 8 Mbit/s."""
    loop = asyncio.new_event_loop()
    found: list[int] = []
    ready, over = threading.Event(), asyncio.Event()

    async def serve() -> None:
        proofs = Proofs(PROGRAM, 8_000_000)
        runner = web.AppRunner(FarEnd(KEY, proofs).application(), access_log=None, shutdown_timeout=0.1)
        await runner.setup()
        site = web.TCPSite(runner, "127.0.0.1", 0)
        await site.start()
        found.append(runner.addresses[0][1])
        ready.set()
        await over.wait()
        await proofs.end()
        await runner.cleanup()

    thread = threading.Thread(target=lambda: loop.run_until_complete(serve()), daemon=True)
    thread.start()
    assert ready.wait(10)
    yield found[0]
    loop.call_soon_threadsafe(over.set)
    thread.join(10)


def free_port() -> int:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as end:
        end.bind(("127.0.0.1", 0))
        return int(end.getsockname()[1])


def flood(gap: int, length: int = 1500) -> dict[str, object]:
    return {"flood": {"send": [[7, gap, length]], "wait": 50 * MS, "warm": 0, "counted": 300 * MS}}


@pytest.mark.parametrize("known", [True, False])
def test_only_who_shows_the_token_is_flooded(port: int, known: bool) -> None:
    far = FarSide("127.0.0.1", port, KEY)
    there = free_port()
    assert far.ask({"listen": [["udp", there]]}) == [["udp", "127.0.0.1", there]]
    with closing(socket.socket(socket.AF_INET, socket.SOCK_DGRAM)) as end:
        end.settimeout(2)
        secret = far.secret if known else b"a guess"
        end.sendto(b"o" + (7).to_bytes(2) + token(secret, 7), ("127.0.0.1", there))
        assert end.recv(100)[:1] == b"o"  # answered either way, with no more than came
        begun = time.monotonic()
        assert far.ask(flood(10 * MS)) == []
        assert time.monotonic() - begun > 0.3
        end.settimeout(0.1)
        came = 0
        try:
            while end.recv(2000)[:1] == b"f":
                came += 1
        except TimeoutError:
            pass
    assert 20 < came < 40 if known else came == 0


def test_what_is_not_allowed_is_refused_with_the_reason(port: int) -> None:
    far = FarSide("127.0.0.1", port, KEY)
    for order, says in (
        (flood(MS), "12 Mbit/s are more than is served here"),
        (flood(10 * MS, 9000), "a stream is"),
        ({"flood": {"send": [], "wait": 0, "warm": 0, "counted": 60_000 * MS}}, "20 s at most"),
        ({"listen": [["udp", 70_000]]}, "an end is"),
        ({"listen": [["udp", n + 1] for n in range(MOST_ENDS + 1)]}, "no such order"),
        ({"call": []}, "no such order"),
    ):
        with pytest.raises(LiveError, match=says):
            far.ask(order)
    far.ask({"listen": []})
    with pytest.raises(LiveError, match="another proof is under way"):
        FarSide("127.0.0.1", port, KEY).ask({"listen": []})
    far.close()
    FarSide("127.0.0.1", port, KEY).ask({"listen": []})
    with pytest.raises(LiveError, match="not signed with this key"):
        FarSide("127.0.0.1", port, OTHER).ask({"listen": []})


def test_an_order_that_was_changed_on_the_way_is_refused(port: int, monkeypatch: pytest.MonkeyPatch) -> None:
    from wily_sluice.proving import far_side

    signed = far_side.authorization

    def other(key: bytes, challenge: str, method: str, path: str, body: bytes) -> dict[str, str]:
        return signed(key, challenge, method, path, json.dumps(flood(10 * MS)).encode())

    monkeypatch.setattr(far_side, "authorization", other)
    with pytest.raises(LiveError, match="not signed with this key"):
        FarSide("127.0.0.1", port, KEY).ask(flood(5 * MS))

"""The far side of proofs floods nobody but who has the key, and no more than is allowed."""

import asyncio
import json
import socket
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import closing, suppress

import pytest
from aiohttp import web

from wily_sluice.errors import LiveError
from wily_sluice.gauge.far import FarEnd
from wily_sluice.gauge.proofs import MOST_ENDS, Proofs
from wily_sluice.proving.far_side import FarSide
from wily_sluice.rig.promises.traffic_program import ENTERS, RETURNS, Entrance, enter, stream_token, token, wish

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
        runner = web.ServerRunner(FarEnd(KEY, proofs).server(), shutdown_timeout=0.1)
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


def answers(kind: socket.SocketKind, port: int, data: bytes) -> bytes:
    """What comes back from an end; nothing if it is closed or silent."""
    with socket.socket(socket.AF_INET, kind) as end, suppress(OSError):
        end.settimeout(0.5)
        end.connect(("127.0.0.1", port))
        end.send(data)
        return end.recv(1 << 16)
    return b""


def floods_taken(far: FarSide, there: int, secret: bytes) -> int:
    """How many packets of a flood come to who calls with a token of this secret."""
    with closing(socket.socket(socket.AF_INET, socket.SOCK_DGRAM)) as end:
        end.sendto(b"o" + (7).to_bytes(2) + stream_token(secret, 7), ("127.0.0.1", there))
        time.sleep(0.05)
        begun = time.monotonic()
        assert far.ask(flood(10 * MS)) == []
        assert time.monotonic() - begun > 0.3
        end.settimeout(0.1)
        taken = 0
        try:
            while data := end.recv(2000):
                taken += data[:1] == b"f"
        except TimeoutError:
            return taken
    return taken


def test_only_an_address_that_receives_and_shows_the_token_is_flooded(port: int) -> None:
    far, there = FarSide("127.0.0.1", port, KEY), free_port()
    assert far.ask({"listen": [["udp", there]]}) == [["udp", "127.0.0.1", there]]
    assert floods_taken(far, there, far.secret) == 0  # with the token, but it has not entered
    assert enter("127.0.0.1", ("127.0.0.1", port), far.secret)
    assert floods_taken(far, there, b"a guess") == 0
    assert 20 < floods_taken(far, there, far.secret) < 40


def test_the_ends_of_a_proof_answer_no_stranger(port: int) -> None:
    far, there = FarSide("127.0.0.1", port, KEY), free_port()
    far.ask({"listen": [["udp", there], ["tcp", there]]})
    most = 10_000
    for data in (b"hello", wish(most, far.secret)):
        assert answers(socket.SOCK_DGRAM, there, data) == answers(socket.SOCK_STREAM, there, data) == b""
    assert not enter("127.0.0.1", ("127.0.0.1", port), b"a guess")
    assert answers(socket.SOCK_STREAM, there, b"hello") == b""
    assert enter("127.0.0.1", ("127.0.0.1", port), far.secret)
    assert answers(socket.SOCK_DGRAM, there, b"hello") == b"hello"
    assert len(answers(socket.SOCK_STREAM, there, wish(most, far.secret))) > 1
    # Somebody else behind the same address gets a byte for what it sends, whatever it wishes for.
    for wanted in (wish(most, b"a guess"), wish(1 << 40, far.secret), wish(most, far.secret)[:-1] + b"\xff"):
        assert len(answers(socket.SOCK_STREAM, there, wanted)) == 1


def test_a_cookie_is_of_one_address_and_no_answer_is_longer_than_what_was_sent() -> None:
    entrance, secret = Entrance(b"a secret"), b"a secret"
    hello = ENTERS + token(secret, b"enter")
    cookie = entrance.answer(hello, "192.0.2.1")
    assert cookie is not None and len(cookie) <= len(hello)
    right = RETURNS + cookie[1:] + token(secret, cookie[1:])
    assert entrance.answer(right, "192.0.2.2") is None and not entrance.entered("192.0.2.2")
    assert entrance.answer(right[:-1] + b"x", "192.0.2.1") is None and not entrance.entered("192.0.2.1")
    assert entrance.answer(right, "192.0.2.1") == RETURNS and entrance.entered("192.0.2.1")
    assert entrance.answer(ENTERS + token(b"a guess", b"enter"), "192.0.2.1") is None
    assert Entrance(b"").entered("192.0.2.3")


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
    with pytest.raises(LiveError, match="has another key"):
        FarSide("127.0.0.1", port, OTHER).ask({"listen": []})


def test_an_order_that_was_changed_on_the_way_is_refused(port: int, monkeypatch: pytest.MonkeyPatch) -> None:
    from wily_sluice.proving import far_side

    signed = far_side.authorization

    def other(key: bytes, challenge: str, method: str, path: str, body: bytes) -> dict[str, str]:
        return signed(key, challenge, method, path, json.dumps(flood(10 * MS)).encode())

    monkeypatch.setattr(far_side, "authorization", other)
    with pytest.raises(LiveError, match="not signed with this key"):
        FarSide("127.0.0.1", port, KEY).ask(flood(5 * MS))

"""A measurement over the loopback, with both ends in one process; and what goes wrong on the way."""

import asyncio
import socket
import threading
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from contextlib import asynccontextmanager, contextmanager, suppress
from types import SimpleNamespace
from typing import Any

import aiohttp
import pytest
from aiohttp import web

from tests.conftest import WORKER
from wily_sluice.errors import LiveError
from wily_sluice.gauge import far as far_module
from wily_sluice.gauge import line, loads
from wily_sluice.gauge.delays import Answered
from wily_sluice.gauge.far import FarEnd, authorization
from wily_sluice.gauge.loads import Far, load
from wily_sluice.gauge.reflector import Reflector, prepared, serve
from wily_sluice.gauge.stamp import Reflected
from wily_sluice.units import MILLISECOND, SECOND
from wily_sluice.views.live.line import line_records

KEY = b"a key of the two machines"
PORT = 18_863 + 10 * WORKER


@asynccontextmanager
async def served(there: web.Application | web.Server) -> AsyncIterator[None]:
    if isinstance(there, web.Application):
        runner: web.BaseRunner = web.AppRunner(there, access_log=None, shutdown_timeout=0.1)
    else:
        runner = web.ServerRunner(there, shutdown_timeout=0.1)
    await runner.setup()
    await web.TCPSite(runner, "127.0.0.1", PORT).start()
    try:
        yield
    finally:
        await runner.cleanup()


@contextmanager
def http_end() -> Iterator[Callable[[], None]]:
    """HTTP alone, in a thread; what is yielded ends it."""
    begun, over = threading.Event(), asyncio.Event()
    loop = asyncio.new_event_loop()

    async def run() -> None:
        async with served(FarEnd(KEY).server()):
            begun.set()
            await over.wait()

    thread = threading.Thread(target=loop.run_until_complete, args=(run(),), daemon=True)
    thread.start()
    assert begun.wait(10)

    def end() -> None:
        if thread.is_alive():
            loop.call_soon_threadsafe(over.set)
            thread.join(10)

    try:
        yield end
    finally:
        end()


@contextmanager
def far_end() -> Iterator[None]:
    """In threads: HTTP and a reflector."""
    with http_end(), prepared(socket.AF_INET) as reflecting:
        reflecting.bind(("127.0.0.1", PORT))

        def reflect() -> None:
            with suppress(OSError, TypeError):  # the socket is shut down: nobody sent what it then returns
                serve(reflecting, Reflector(KEY))

        reflector = threading.Thread(target=reflect, daemon=True)
        reflector.start()
        try:
            yield
        finally:
            with suppress(OSError):
                reflecting.shutdown(socket.SHUT_RDWR)
            reflector.join(10)
            assert not reflector.is_alive()


@pytest.fixture
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("IDLE", "LOADED", "BOTH", "SIZED"):
        # Both ways at once keep this machine's processors busy, so that some of it may be lost.
        monkeypatch.setattr(line, name, SECOND * (4 if name == "BOTH" else 2))
    for name in ("DRAINS", "AT_LAST"):
        monkeypatch.setattr(line, name, 600 * MILLISECOND)


def far(key: bytes = KEY) -> Far:
    return Far("127.0.0.1", PORT, key)


@pytest.mark.usefixtures("short")
def test_a_measurement_is_whole_and_one_that_is_ended_early_keeps_what_there_is() -> None:
    with far_end():
        told: list[str] = []
        found = line.measure(far(), PORT, lambda what, _: told.append(what), 2)
        assert found.whole and not found.troubles and found.idle is not None
        assert found.idle.answered >= 0.9 * found.idle.sent  # a machine that stands still for a moment loses one
        assert all(
            way.data is not None and way.data.rate > 1e7 and way.loaded is not None for way in found.ways.values()
        )
        assert all(way.both is not None for way in found.ways.values())
        # However fast the line, each direction is looked at as often as the other.
        often = [len(course) for *_, course in found.courses]
        assert min(often) > 0.3 * max(often) > 4, often  # both at once last twice as long
        assert found.largest == 9000 and "idle" in told

        def interrupt(what: str, _: float) -> None:
            if what == "loading up":
                raise KeyboardInterrupt

        partly = line.measure(far(), PORT, interrupt, 2)
        assert partly.interrupted and not partly.whole and "ended early" in partly.troubles[-1]
        assert partly.ways["down"].data is not None and partly.ways["up"].data is None


def test_strangers_get_a_challenge_and_nothing_else() -> None:
    async def ask() -> list[int]:
        found = []
        async with served(FarEnd(KEY).server()), aiohttp.ClientSession(f"http://127.0.0.1:{PORT}") as one:
            for method, path in (("GET", "/gauge/down"), ("POST", "/gauge/up"), ("GET", "/gauge/taken"), ("GET", "/")):
                found.append((await one.request(method, path)).status)
            challenge = (await (await one.get("/gauge/challenge")).json())["challenge"]
            for key, signed, asked in (
                (b"another key", "/gauge/small", "/gauge/small"),
                (KEY, "/gauge/small", "/gauge/taken"),
                (KEY, "/gauge/small", "/gauge/small"),
            ):
                headers = authorization(key, challenge, "GET", signed)
                found.append((await one.get(asked, headers=headers)).status)
            known = authorization(KEY, challenge, "GET", "/gauge/small")
            for _ in range(100):  # strangers who ask for challenges do not end what has begun
                await one.get("/gauge/challenge")
            found.append((await one.get("/gauge/small", headers=known)).status)
            for made_up in ("0" * 80, f"{challenge[:-1]}x", challenge[:-1], f"{'f' * 80}"):
                headers = authorization(KEY, made_up, "GET", "/gauge/small")
                found.append((await one.get("/gauge/small", headers=headers)).status)
            odd = {"Authorization": f"Gauge {challenge} \u00fc\u00fc"}
            found.append((await one.get("/gauge/small", headers=odd)).status)
        return found

    assert asyncio.run(ask()) == [401, 401, 401, 404, 403, 403, 200, 200, 401, 401, 401, 401, 403]


def test_a_friend_is_served_although_strangers_asked_for_more_challenges_than_there_are_sessions() -> None:
    async def ask() -> int:
        async with served(FarEnd(KEY).server()), aiohttp.ClientSession(f"http://127.0.0.1:{PORT}") as one:
            challenge = (await (await one.get("/gauge/challenge")).json())["challenge"]
            for _ in range(100):  # before it signs anything
                await one.get("/gauge/challenge")
            return (await one.get("/gauge/small", headers=authorization(KEY, challenge, "GET", "/gauge/small"))).status

    assert asyncio.run(ask()) == 200


def test_connections_of_strangers_end_and_keep_nobody_out(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(far_module, "MOST_OF_A_SITE", 20)
    monkeypatch.setattr(far_module, "STRANGER_LEAVES", 0.5)

    async def ask() -> tuple[int, int, int]:
        async with served(FarEnd(KEY).server()), aiohttp.ClientSession(f"http://127.0.0.1:{PORT}") as one:
            challenge = (await (await one.get("/gauge/challenge")).json())["challenge"]
            headers = authorization(KEY, challenge, "GET", "/gauge/small")
            await (await one.get("/gauge/small", headers=headers)).read()  # a friend from now on
            idle = [await asyncio.open_connection("127.0.0.1", PORT) for _ in range(100)]
            await asyncio.sleep(0.1)
            open_still = sum(not reader.at_eof() and reader.exception() is None for reader, _ in idle)
            async with aiohttp.ClientSession() as newcomer:
                there = f"http://127.0.0.1:{PORT}/gauge/small"
                status = (await newcomer.get(there, headers=headers)).status
            await asyncio.sleep(0.8)
            left = sum(not reader.at_eof() and reader.exception() is None for reader, _ in idle)
            for _, writer in idle:
                writer.close()
            assert (await one.get("/gauge/small", headers=headers)).status == 200
        return open_still, status, left

    assert asyncio.run(ask()) == (20, 200, 0)


def test_another_key_is_told_before_anything_is_measured() -> None:
    async def meet() -> None:
        async with served(FarEnd(b"another key, as long").server()):
            await far().meet()

    with pytest.raises(LiveError, match="has another key"):
        asyncio.run(meet())


@pytest.mark.usefixtures("short")
def test_a_far_end_that_dies_ends_the_measurement_with_what_there_is() -> None:
    died = 0.0
    with http_end() as end:

        def die(what: str, _: float) -> None:
            nonlocal died
            if what == "loading up":
                end()
                died = time.monotonic()

        partly = line.measure(far(), PORT, die, 2)
    assert time.monotonic() - died < 3
    assert partly.ways["down"].data is not None and partly.ways["up"].data is None and not partly.whole
    assert any("does not answer any more" in trouble for trouble in partly.troubles)


def test_nobody_there_and_a_stranger_there_are_told_apart() -> None:
    with pytest.raises(LiveError, match="does `sluice gauge serve` run there"):
        asyncio.run(far().meet())

    async def meet() -> None:
        async with served(web.Application()):
            await far().meet()

    with pytest.raises(LiveError, match="no far end of ours"):
        asyncio.run(meet())


Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]


def loaded(handler: Handler, monkeypatch: pytest.MonkeyPatch) -> tuple[Far, loads.Load]:
    """What a load of somebody else's URL comes to."""
    monkeypatch.setattr(loads, "STANDS_STILL", 500 * MILLISECOND)
    there = Far("127.0.0.1", PORT, None, f"http://127.0.0.1:{PORT}/file")

    async def run() -> loads.Load:
        application = web.Application()
        application.router.add_get("/file", handler)
        async with served(application):
            return (await load(there, ("down",), 2, 2 * SECOND))["down"]

    return there, asyncio.run(run())


def test_a_cache_a_line_that_drops_and_a_refusal_are_told(monkeypatch: pytest.MonkeyPatch) -> None:
    async def cached(_: web.Request) -> web.StreamResponse:
        return web.Response(body=bytes(300_000), headers={"Age": "30", "Via": "1.1 proxy.example"})

    there, found = loaded(cached, monkeypatch)
    assert found.course[-1][1] > 100 and not found.trouble
    assert "a proxy is on the way" in there.notes[0] and "a cache answered" in there.notes[1] and len(there.notes) == 2

    async def dropped(request: web.Request) -> web.StreamResponse:
        response = web.StreamResponse(headers={"Content-Length": "1000000"})
        await response.prepare(request)
        await response.write(bytes(100_000))
        await asyncio.sleep(30)
        return response

    assert loaded(dropped, monkeypatch)[1].trouble == "the line stood still for 0 s"

    async def refused(_: web.Request) -> web.StreamResponse:
        return web.Response(status=404)

    assert loaded(refused, monkeypatch)[1].trouble.endswith("answers with status 404")


@pytest.mark.parametrize(("drift", "told"), [(0.0, False), (50e-6, False), (0.01, True)])
def test_clocks_that_differ_do_not_matter_and_one_that_is_set_is_told(drift: float, told: bool) -> None:
    """A line of 20 ms each way, 100 ms more up while it is loaded; the far clock is three hours ahead, and drifts."""
    begun = 1_800_000_000 * SECOND
    answers = []
    for number in range(3_000):
        sent = begun + number * 20 * MILLISECOND
        up = (120 if 1_000 <= number < 1_500 else 20) * MILLISECOND
        at_far = sent + up + round(10_800 * SECOND + (sent + up - begun) * drift)
        answers.append(Answered(Reflected(number, at_far, at_far, number, sent, 64), sent + up + 20 * MILLISECOND))
    measured = line.Measured(begun, "far.example")
    loaded_at = begun + 20 * SECOND
    measured.phases.append(("up", loaded_at, loaded_at + 10 * SECOND))

    def between(first: int, last: int) -> list[Answered]:
        return [one for one in answers if first <= one.packet.sender_at < last]

    probing: Any = SimpleNamespace(answers=answers, between=between)
    steps = line._Steps(measured, far(), probing, lambda *_: None, 2)
    steps._base = begun + SECOND, line._base(between(begun, begun + 2 * SECOND))
    steps.waits(begun + 60 * SECOND)
    if told:
        assert "a clock was set" in measured.notes[0] and measured.ways["up"].buffer is None
    else:
        assert measured.ways["up"].buffer == pytest.approx(100 * MILLISECOND, rel=0.001)


def test_what_was_seen_over_time_is_printed_in_its_order() -> None:
    measured = line.Measured(SECOND, "far.example")
    course = [(n * SECOND // 10, n * 100, n * 100_000) for n in range(31)]  # a thousand segments a second
    measured.courses.append(("up", 2 * SECOND, 1000, course))
    measured.waits += [(2 * SECOND + SECOND // 4, 5, 7)]
    rows = list(line_records([measured]))
    assert [(row["what"], row["direction"], row["value"]) for row in rows[:3]] == [
        ("data", "up", 8_000_000),
        ("delay", "down", 7),
        ("delay", "up", 5),
    ]
    assert rows[0]["at"] == "1970-01-01T00:00:02Z" and len(rows) == 2 + 5

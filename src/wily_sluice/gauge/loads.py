"""Loads a line over HTTP with several connections, and counts what arrives."""

import asyncio
import os
import socket
import struct
import time
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import suppress
from typing import Any
from urllib.parse import urlsplit

import aiohttp

from wily_sluice.errors import LiveError
from wily_sluice.gauge.far import authorization
from wily_sluice.gauge.segments import Segments, acknowledged, segment_of
from wily_sluice.units import SECOND, Direction, Nanoseconds, Size

CHUNK: Size = 1 << 17
STANDS_STILL: Nanoseconds = 5 * SECOND  # without a byte, a line is gone
ANSWERS_WITHIN = 8.0  # seconds
STILL_THERE = 2.0  # seconds for an answer, after a load has ended early
SMALL_EVERY = 0.2  # seconds
SAMPLE = 0.05  # seconds
Course = list[tuple[Nanoseconds, int, Size]]  # when, and how many segments, and bytes in their order, by then


class Load:
    """The results of a load: segments over time; round trips of small requests during it, in ns; data and headers of a
    full segment in bytes. `trouble` is the reason if it ended early.
    """

    def __init__(self) -> None:
        self.course: Course = []
        self.segments = Segments()
        self.trips: list[Nanoseconds] = []
        self.segment: Size = 0
        self.headers: Size = 40
        self.trouble = ""
        self.begun: Nanoseconds = 0  # of the real-time clock
        self.ended: Nanoseconds = 0

    @property
    def mean(self) -> Size:
        """The mean of data in a segment, as it came; 0 of none."""
        if len(self.course) < 2:
            return 0
        segments = self.course[-1][1] - self.course[0][1]
        return round((self.course[-1][2] - self.course[0][2]) / segments) if segments else 0


class Far:
    """The far end: its address and the shared key, or the URL of another server with data."""

    def __init__(self, host: str, port: int, key: bytes | None, url: str = "") -> None:
        self.key = key
        self.host, self.port = host, port
        self.url = url
        name = f"[{host}]" if ":" in host else host
        self.base = f"http://{name}:{port}"
        self.challenge = ""
        self.notes: list[str] = []  # of a proxy on the way, and the like

    def request(self, method: str, path: str) -> dict[str, str]:
        """The headers of a request."""
        return authorization(self.key, self.challenge, method, path) if self.key is not None else {}

    async def meet(self) -> None:
        """Get a challenge. LiveError if there is no answer, or from something else."""
        if self.key is None:
            return
        try:
            async with session() as http, http.get(f"{self.base}/gauge/challenge") as answer:
                if answer.status != 200:
                    raise LiveError(
                        f"{self.host} answers with status {answer.status}: it is busy, or no far end of ours"
                    )
                self.challenge = str((await answer.json())["challenge"])
                self._note(answer)
            small = f"{self.base}/gauge/small"
            async with session() as http, http.get(small, headers=self.request("GET", "/gauge/small")) as answer:
                if answer.status == 403:
                    raise LiveError(f"{self.host} has another key: copy its key file here, and name it with --key")
        except (aiohttp.ClientError, TimeoutError, OSError, ValueError, KeyError) as error:
            raise LiveError(
                f"nothing answers at {self.base}: does `sluice gauge serve` run there, and does a firewall let TCP "
                f"through? ({str(error) or type(error).__name__})"
            ) from None

    async def is_there(self) -> bool:
        """Whether it answers at all."""
        with suppress(aiohttp.ClientError, TimeoutError, OSError):
            async with asyncio.timeout(STILL_THERE), session() as http:
                (await http.get(self.url or f"{self.base}/gauge/challenge")).close()
                return True
        return False

    def _note(self, answer: aiohttp.ClientResponse) -> None:
        via, age = answer.headers.get("Via", ""), answer.headers.get("Age", "")
        notes = [f"a proxy is on the way ({via}): it is measured as part of the line"] if via else []
        if age.isdigit() and int(age):
            notes.append("what came is older than the question: a cache answered, so the rate may not be the line's")
        self.notes += [note for note in notes if note not in self.notes]


class Connector(aiohttp.TCPConnector):
    """Knows the connections that it makes, so that they can be broken off."""

    def __init__(self, made: Callable[[Any], socket.socket]) -> None:
        super().__init__(limit=0, force_close=True, socket_factory=made)
        self._transports: list[asyncio.Transport] = []

    async def connect(self, *about: Any, **more: Any) -> Any:
        """A connection."""
        connection = await super().connect(*about, **more)
        if connection.transport is not None:
            self._transports.append(connection.transport)
        return connection

    def acknowledged(self) -> int:
        """Bytes that the other end has acknowledged, of the connections that are open."""
        ends = [transport.get_extra_info("socket") for transport in self._transports]
        return sum(acknowledged(end) for end in ends if end is not None)

    def break_off(self) -> None:
        """End all connections at once: pending data is dropped."""
        for transport in self._transports:
            end = transport.get_extra_info("socket")
            if end is not None and end.fileno() >= 0:  # of one that has ended, nothing is left to abort
                transport.abort()


def session(segment: Size = 0, loads: bool = False) -> aiohttp.ClientSession:
    """A session in which each connection is a new one; with at most this segment size, if given.

    A session that `loads` sends full segments, and no data after it is broken off.
    """

    def made(address: Any) -> socket.socket:
        family, kind, protocol, _, _ = address
        end = socket.socket(family, kind, protocol)
        if loads:
            end.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
            end.setsockopt(socket.IPPROTO_TCP, socket.TCP_CORK, 1)
        if segment:
            end.setsockopt(socket.IPPROTO_TCP, socket.TCP_MAXSEG, segment)
        return end

    timeout = aiohttp.ClientTimeout(total=None, sock_connect=ANSWERS_WITHIN, sock_read=None)
    return aiohttp.ClientSession(connector=Connector(made), timeout=timeout, auto_decompress=False)


async def load(
    far: Far, ways: Sequence[Direction], connections: int, lasts: Nanoseconds, segment: Size = 0, small: bool = True
) -> dict[Direction, Load]:
    """Load the line in these directions for a time. An interrupt ends it and keeps the results."""
    loads: dict[Direction, Load] = {way: Load() for way in ways}
    until = time.monotonic_ns() + lasts
    for load in loads.values():
        load.begun = time.time_ns()
    async with session(segment, True) as shared:
        tasks: list[asyncio.Task[None]] = []
        transfers: list[asyncio.Task[None]] = []
        for way, load in loads.items():
            run = _download if way == "down" else _upload
            if way == "down":
                tasks.append(asyncio.create_task(_sample(load)))
            transfers += [asyncio.create_task(run(shared, far, load)) for _ in range(connections)]
        if small and far.key is not None:
            tasks.append(asyncio.create_task(_small(far, next(iter(loads.values())))))
        try:
            await _watch(shared, loads, transfers, until)
        finally:
            for task in (*tasks, *transfers):
                task.cancel()
            if isinstance(shared.connector, Connector):
                shared.connector.break_off()
            await asyncio.gather(*tasks, *transfers, return_exceptions=True)
    for load in loads.values():
        load.ended = time.time_ns()
    if "up" in loads and far.key is not None:
        await _fetch_taken(far, loads["up"])
    return loads


async def _watch(
    shared: aiohttp.ClientSession,
    loads: dict[Direction, Load],
    transfers: "list[asyncio.Task[None]]",
    until: Nanoseconds,
) -> None:
    """Wait until the time is over, no data moves, or all connections have ended."""
    moved, since = -1, time.monotonic_ns()
    while (now := time.monotonic_ns()) < until:
        await asyncio.sleep(min(0.1, (until - now) / SECOND))
        total = sum(load.segments.total()[0] for load in loads.values())
        if isinstance(shared.connector, Connector) and "up" in loads:
            total += shared.connector.acknowledged()
        if total != moved:
            moved, since = total, now
        elif now - since > STANDS_STILL:
            trouble = f"the line stood still for {STANDS_STILL / SECOND:.0f} s" if moved > 0 else "nothing came"
            for load in loads.values():
                load.trouble = load.trouble or trouble
            return
        if all(task.done() for task in transfers):
            for load in loads.values():
                load.trouble = load.trouble or "all connections were closed"
            return


async def _download(shared: aiohttp.ClientSession, far: Far, load: Load) -> None:
    url = far.url or f"{far.base}/gauge/down"
    while True:
        try:
            async with shared.get(url, headers=far.request("GET", "/gauge/down")) as answer:
                if answer.status != 200:
                    load.trouble = f"{url} answers with status {answer.status}"
                    return
                far._note(answer)
                transport = answer.connection.transport if answer.connection is not None else None
                end = transport.get_extra_info("socket") if transport is not None else None
                load.segments.add(end)
                load.segment, load.headers = segment_of(end)
                try:
                    async for _ in answer.content.iter_any():
                        continue
                finally:
                    load.segments.remove(end)
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            load.trouble = f"a connection broke: {str(error) or type(error).__name__}"
            return
        if not far.url:
            return


async def _upload(shared: aiohttp.ClientSession, far: Far, load: Load) -> None:
    filling = os.urandom(CHUNK)  # nothing on the way can make it smaller

    async def body() -> AsyncIterator[bytes]:
        while not load.trouble:
            yield filling
            await asyncio.sleep(0)  # on a line as fast as this machine, nothing else would have a turn

    try:
        async with shared.post(f"{far.base}/gauge/up", data=body(), headers=far.request("POST", "/gauge/up")) as answer:
            if answer.status != 200:
                load.trouble = f"{far.base} answers with status {answer.status}"
    except (aiohttp.ClientError, TimeoutError, OSError) as error:
        load.trouble = f"a connection broke: {str(error) or type(error).__name__}"


async def _sample(load: Load) -> None:
    """Note how much has come."""
    while True:
        load.course.append((time.monotonic_ns(), *load.segments.total()))
        await asyncio.sleep(SAMPLE)


async def _small(far: Far, load: Load) -> None:
    """Ask for a byte over a new connection, again and again. To connect takes a round trip, and so does the byte."""
    while True:
        begun = time.monotonic_ns()
        with suppress(aiohttp.ClientError, TimeoutError, OSError):
            async with (
                session() as own,
                own.get(f"{far.base}/gauge/small", headers=far.request("GET", "/gauge/small")) as answer,
            ):
                await answer.read()
                if answer.status == 200:
                    load.trips.append((time.monotonic_ns() - begun) // 2)
        await asyncio.sleep(SMALL_EVERY)


async def _fetch_taken(far: Far, load: Load) -> None:
    """The far end's counts, by its own clock: data sent from here may still be queued."""
    with suppress(aiohttp.ClientError, TimeoutError, OSError, ValueError, KeyError):
        async with (
            session() as own,
            own.get(f"{far.base}/gauge/taken", headers=far.request("GET", "/gauge/taken")) as answer,
        ):
            if answer.status == 200:
                taken = (await answer.json())["taken"]
                load.course = [(int(at), int(segments), int(size)) for at, segments, size in taken]
                return
    load.trouble = load.trouble or "the far end did not report what it received"


def host_of(url: str) -> str:
    """The host of a URL. LiveError when it has none, or another scheme than HTTP's."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise LiveError(f"{url} is no URL of http or https")
    return parts.hostname

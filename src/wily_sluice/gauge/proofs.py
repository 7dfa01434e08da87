"""The far end of proofs: ports that answer conversations, and floods, for holders of the key.

A separate program carries out the orders (described in `rig/promises/traffic_program.py`), for one session at a time,
and is ended when that falls silent. All orders are checked: at most MOST_ENDS ports, only at the requested address, no
flood above the rate allowed at the start. The ports answer only addresses that have entered (`Entrance`, there), and
floods go only to callers with a token that are among them.
"""

import asyncio
import json
import time
from asyncio.subprocess import DEVNULL, PIPE, Process
from collections.abc import Sequence
from contextlib import suppress
from typing import Any

from wily_sluice.units import SECOND, Nanoseconds, Rate

MOST_ENDS = 64
LONGEST_FLOOD: Nanoseconds = 20 * SECOND
SHORTEST_GAP: Nanoseconds = 1_000
LARGEST_PACKET, SMALLEST_PACKET = 1500, 60
SILENT = 60.0  # seconds, after which a session's program is ended
PATIENCE = 40.0  # seconds for an answer


class Refused(Exception):
    """An order that is not followed; says why."""


class Proofs:
    """`command` starts the program; floods have at most `most` bit/s together."""

    def __init__(self, command: Sequence[str], most: Rate) -> None:
        self._command = command
        self._most = most
        self._session = ""
        self._process: Process | None = None
        self._used = 0.0
        self._lock = asyncio.Lock()
        self._ender: asyncio.Task[None] | None = None

    async def order(self, session: str, at: tuple[str, int], secret: bytes, what: Any) -> Any:
        """Follow an order of a session that reached us at an address and port. Refused."""
        order = self._checked(at, secret, what)
        async with self._lock:
            if self._session != session:
                if self._process is not None and time.monotonic() - self._used < SILENT:
                    raise Refused("another proof is under way")
                await self.end()
                self._session = session
            self._used = time.monotonic()
            if "end" in order:
                return await self.end()
            if "flood" in order:
                order["flood"] = _absolute(order["flood"])
            return await self._ask(order)

    def _checked(self, at: tuple[str, int], secret: bytes, what: Any) -> dict[str, Any]:
        match what:
            case {"end": True}:
                return {"end": True}
            case {"listen": list(ends)} if len(ends) <= MOST_ENDS:
                sending_ends = []
                for end in ends:
                    match end:
                        case ["udp" | "tcp" as protocol, int(port)] if 0 < port < 65_536:
                            sending_ends.append([protocol, at[0], port])
                        case _:
                            raise Refused("an end is a protocol and a port")
                return {"listen": sending_ends, "entrance": at, "secret": secret.hex()}
            case {"flood": {"send": list(sending), "wait": int(wait), "warm": int(warm), "counted": int(counted)}}:
                if min(wait, warm, counted) < 0 or wait + warm + counted > LONGEST_FLOOD:
                    raise Refused("a flood lasts 20 s at most")
                rate = 0.0
                for wish in sending:
                    match wish:
                        case [int(stream), int(gap), int(length)] if (
                            0 <= stream < 65_536 and gap >= SHORTEST_GAP and SMALLEST_PACKET <= length <= LARGEST_PACKET
                        ):
                            rate += length * 8 * SECOND / gap
                        case _:
                            raise Refused("a stream is a number, a gap and a length")
                if rate > self._most:
                    raise Refused(f"{rate / 1e6:.0f} Mbit/s are more than is served here ({self._most / 1e6:.0f})")
                return {"flood": {"send": sending, "wait": wait, "warm": warm, "counted": counted}}
        raise Refused("there is no such order")

    async def _ask(self, order: dict[str, Any]) -> Any:
        if self._process is None or self._process.returncode is not None:
            self._process = await asyncio.create_subprocess_exec(
                *self._command, stdin=PIPE, stdout=PIPE, stderr=DEVNULL
            )
            await self._answer()
            self._ender = asyncio.create_task(self._end_when_silent())
        assert self._process.stdin is not None
        self._process.stdin.write(json.dumps(order).encode() + b"\n")
        with suppress(ConnectionError):
            await self._process.stdin.drain()
        return (await self._answer())["answer"]

    async def _answer(self) -> Any:
        assert self._process is not None and self._process.stdout is not None
        try:
            line = await asyncio.wait_for(self._process.stdout.readline(), PATIENCE)
        except TimeoutError:
            line = b""
        if not line:
            await self.end()
            raise Refused("the program of the far side ended")
        return json.loads(line)

    async def _end_when_silent(self) -> None:
        while self._process is not None and time.monotonic() - self._used < SILENT:
            await asyncio.sleep(SILENT / 10)
        async with self._lock:
            if time.monotonic() - self._used >= SILENT:
                await self.end()

    async def end(self) -> None:
        """End the program."""
        ender, self._ender = self._ender, None
        if ender is not None and ender is not asyncio.current_task():
            ender.cancel()
        process, self._process, self._session = self._process, None, ""
        if process is not None and process.returncode is None:
            with suppress(ProcessLookupError):
                process.kill()
            await process.wait()


def _absolute(flood: dict[str, Any]) -> dict[str, Any]:
    begin = time.time_ns() + flood["wait"]
    counted = begin + flood["warm"]
    return {"send": flood["send"], "begin": begin, "from": counted, "until": counted + flood["counted"]}

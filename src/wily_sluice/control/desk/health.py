"""Whether remotes answer: an echo a second to each (RFC 792, RFC 4443), from this machine, through the gate's queues.

The gate has these packets diverted like those that it forwards, so a plan that holds such traffic up is found out. An
answer counts when it comes within a second; a remote that has given none for LONGEST answers no longer.
"""

import asyncio
import os
import socket
import struct
from collections.abc import Sequence
from contextlib import suppress
from ipaddress import ip_address

from wily_sluice.control.link.overseer import boot_clock
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds

EVERY = 1.0  # seconds
LATEST: Nanoseconds = SECOND
LONGEST: Nanoseconds = 3500 * MILLISECOND
ASK, ANSWER = {4: 8, 6: 128}, {4: 0, 6: 129}  # types of ICMP
_ECHO = struct.Struct("!BBHHH")


def checksum(data: bytes) -> int:
    """The Internet checksum of an even number of bytes (RFC 1071)."""
    total: int = sum(struct.unpack(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


class Pulse:
    """Of some remotes, by their addresses. `listen` begins, within a running event loop."""

    def __init__(self) -> None:
        self._number = os.getpid() & 0xFFFF
        self._ends: dict[int, socket.socket] = {}
        self._remotes: tuple[str, ...] = ()
        self._sequence = 0
        self._asked: dict[int, Nanoseconds] = {}
        self._answered: dict[str, Nanoseconds] = {}
        self._task: asyncio.Task[None] | None = None

    def watch(self, remotes: Sequence[str]) -> None:
        """Ask these from now on. OSError when this machine does not let us."""
        self._remotes = tuple(str(ip_address(remote)) for remote in remotes)
        self._answered = {remote: at for remote, at in self._answered.items() if remote in self._remotes}
        loop = asyncio.get_running_loop()
        for version in {ip_address(remote).version for remote in self._remotes} - self._ends.keys():
            family, protocol = (
                (socket.AF_INET, socket.IPPROTO_ICMP) if version == 4 else (socket.AF_INET6, socket.IPPROTO_ICMPV6)
            )
            end = socket.socket(family, socket.SOCK_RAW, protocol)
            end.setblocking(False)
            self._ends[version] = end
            loop.add_reader(end.fileno(), self._hear, version)
        if self._remotes and self._task is None:
            self._task = loop.create_task(self._ask())

    async def _ask(self) -> None:
        while True:
            self._sequence = (self._sequence + 1) & 0xFFFF
            now = boot_clock()
            self._asked[self._sequence] = now
            self._asked.pop((self._sequence - 16) & 0xFFFF, None)
            for remote in self._remotes:
                version = ip_address(remote).version
                body = _ECHO.pack(ASK[version], 0, 0, self._number, self._sequence)
                if version == 4:  # of IPv6 the kernel works it out
                    body = _ECHO.pack(ASK[4], 0, checksum(body), self._number, self._sequence)
                with suppress(OSError):
                    self._ends[version].sendto(body, (remote, 0))
            await asyncio.sleep(EVERY)

    def _hear(self, version: int) -> None:
        with suppress(BlockingIOError):
            while True:
                data, source = self._ends[version].recvfrom(2048)
                start = (data[0] & 15) * 4 if version == 4 else 0
                if len(data) < start + _ECHO.size:
                    continue
                kind, _, _, number, sequence = _ECHO.unpack_from(data, start)
                asked = self._asked.get(sequence)
                remote = source[0].partition("%")[0]
                if (kind, number) == (ANSWER[version], self._number) and asked is not None and remote in self._remotes:
                    now = boot_clock()
                    if now - asked <= LATEST:
                        self._answered[remote] = now

    def answering(self) -> set[str]:
        """Those that answer."""
        now = boot_clock()
        return {remote for remote, at in self._answered.items() if now - at <= LONGEST}

    def close(self) -> None:
        """Ask no more."""
        if self._task is not None:
            self._task.cancel()
        for end in self._ends.values():
            end.close()

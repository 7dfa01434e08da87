"""Whether remotes answer: an echo a second to each (RFC 792, RFC 4443), from this machine, through the gate's queues.

The gate has these packets diverted like those that it forwards, so a plan that holds such traffic up is found out. An
answer counts when it comes within a second; a remote that has given none for LONGEST answers no longer.
"""

import asyncio
import socket
from collections.abc import Sequence
from contextlib import suppress
from ipaddress import ip_address

from wily_sluice.control.link.supervisor import boot_clock
from wily_sluice.gate.kernel.echo import Nonce, echo_socket, family_of, parse_answer, request
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds

EVERY = 1.0  # seconds
LATEST: Nanoseconds = SECOND
LONGEST: Nanoseconds = 3500 * MILLISECOND


class Pulse:
    """Of some remotes, by their addresses. `listen` begins, within a running event loop."""

    def __init__(self) -> None:
        self._nonce = Nonce.drawn()
        self._ends: dict[socket.AddressFamily, socket.socket] = {}
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
        for family in {family_of(remote) for remote in self._remotes} - self._ends.keys():
            self._ends[family] = echo_socket(family, self._nonce)
            loop.add_reader(self._ends[family].fileno(), self._hear, family)
        if self._remotes and self._task is None:
            self._task = loop.create_task(self._ask())

    async def _ask(self) -> None:
        while True:
            self._sequence = (self._sequence + 1) & 0xFFFF
            now = boot_clock()
            self._asked[self._sequence] = now
            self._asked.pop((self._sequence - 16) & 0xFFFF, None)
            for remote in self._remotes:
                family = family_of(remote)
                with suppress(OSError):
                    self._ends[family].sendto(request(family, self._nonce, self._sequence), (remote, 0))
            await asyncio.sleep(EVERY)

    def _hear(self, family: socket.AddressFamily) -> None:
        with suppress(OSError):
            while True:
                data, source = self._ends[family].recvfrom(2048)
                sequence = parse_answer(family, data, self._nonce)
                asked = self._asked.get(sequence) if sequence is not None else None
                remote = source[0].partition("%")[0]
                if asked is not None and remote in self._remotes:
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

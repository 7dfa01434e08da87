"""The gate's sockets: one for changes, one for watching only. JSON-RPC, one message per line.

Clients cannot delay the gate, because this is another process. A client that sends too long a line is disconnected. One
that does not read its subscription misses messages, and is disconnected if it still does not read. Watchers have a part
of this process's time, each and all together: who asks for much waits for its next answer. So mappings, trials and
changes go on, whatever they ask.
"""

import asyncio
import grp
import os
import pwd
import socket
import struct
import time
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from wily_sluice.control.json_rpc import Method, Subscription, notification, respond
from wily_sluice.control.log import note
from wily_sluice.errors import INVALID_REQUEST, RpcError
from wily_sluice.gate.kernel.process import CONTROL, WATCH
from wily_sluice.units import Size

LONGEST_ORDER: Size = 64 << 20  # bytes of a line: a plan with the files that it names
LONGEST_QUESTION: Size = 64 << 10
MOST_CLIENTS = 256  # of each socket
FULL: Size = 1 << 20  # bytes that a client has not read, beyond which it misses what it subscribed to
MOST_MISSED = 240  # of these, in a row
NOBODY = 0xFFFFFFFF
MOST_WATCHED: Size = 2 << 20  # bytes of a watcher's batch of answers
EACH, TOGETHER = 0.1, 0.3  # parts of the time that answers for watchers may take
AT_ONCE = 0.1  # seconds of waiting that are not made up for


class Part:
    """A part of the time: how long to wait after having used some."""

    def __init__(self, part: float) -> None:
        self._part = part
        self._free_at = 0.0

    def use(self, spent: float, now: float) -> float:
        """Use so many seconds; the seconds to wait."""
        self._free_at = max(self._free_at, now - AT_ONCE) + spent / self._part
        return max(0.0, self._free_at - now)


def user_name(user: int) -> str:
    """Of a user of this machine; their number, where they have none."""
    try:
        return pwd.getpwuid(user).pw_name
    except KeyError:
        return f"user {user}"


class Caller:
    """A client. `may_change` says that it came over the socket for that."""

    def __init__(self, writer: asyncio.StreamWriter, may_change: bool) -> None:
        self.writer = writer
        self.may_change = may_change
        self.subscribed: Subscription | None = None
        self.part = Part(EACH)
        self._missed = 0

    @property
    def who(self) -> str:
        """The name of the user: who logged in, if that is known, else whose the process is."""
        end: socket.socket = self.writer.get_extra_info("socket")
        process, user, _ = struct.unpack("3i", end.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))
        with suppress(OSError, ValueError):
            logged_in = int(Path(f"/proc/{process}/loginuid").read_text())
            user = user if logged_in == NOBODY else logged_in
        return user_name(user)

    def tell(self, line: bytes) -> None:
        """Send it a line, unless it does not read."""
        if self.writer.transport.get_write_buffer_size() < FULL:
            self.writer.write(line)
            self._missed = 0
            return
        self._missed += 1
        if self._missed >= MOST_MISSED:
            self.writer.transport.abort()


class Server:
    """Both sockets in a folder. `methods` receive the caller; watchers may only call those for watchers."""

    def __init__(self, folder: Path, methods: Mapping[str, Method]) -> None:
        self._folder = folder
        self._methods = methods
        self._for_watchers = {name: method for name, method in methods.items() if method.watchers}
        self._servers: list[asyncio.Server] = []
        self._watchers: str | None = None
        self._part = Part(TOGETHER)
        self.callers: dict[bool, set[Caller]] = {True: set(), False: set()}

    async def begin(self) -> None:
        """Open both for root alone. OSError when that cannot be."""
        for folder in (self._folder.parent, self._folder):
            folder.mkdir(exist_ok=True)
            folder.chmod(0o755)  # whatever the umask: the sockets themselves say who may
        self._servers = [await self._open(True), await self._open(False)]

    async def _open(self, may_change: bool) -> asyncio.Server:
        path = self._folder / (CONTROL if may_change else WATCH)
        path.unlink(missing_ok=True)
        end = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        old = os.umask(0o177)  # only while it is bound: others in this process make files too
        try:
            end.bind(os.fspath(path))
        finally:
            os.umask(old)
        return await asyncio.start_unix_server(
            lambda reader, writer: self._serve(reader, writer, may_change),
            sock=end,
            limit=LONGEST_ORDER if may_change else LONGEST_QUESTION,
        )

    def let_watch(self, watchers: str | None) -> None:
        """Allow watching for root only, a group of this machine's users, or everyone."""
        if watchers == self._watchers:
            return
        path = self._folder / WATCH
        try:
            group = grp.getgrnam(watchers).gr_gid if watchers not in (None, "everyone") else 0
            os.chown(path, 0, group)
            path.chmod(0o600 if watchers is None else 0o666 if watchers == "everyone" else 0o660)
        except (KeyError, OSError) as error:
            note("watchers.refused", "warning", watchers=watchers, why=str(error))
            path.chmod(0o600)
        self._watchers = watchers

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, may_change: bool) -> None:
        callers = self.callers[may_change]
        if len(callers) >= MOST_CLIENTS:
            writer.close()
            return
        caller = Caller(writer, may_change)
        callers.add(caller)
        try:
            while line := await reader.readline():
                if may_change:
                    answer = await respond(line, self._methods, caller)
                else:
                    answer = await self._answer_watcher(line, caller)
                if answer is not None:
                    writer.write(answer)
                    await writer.drain()
        except ValueError:  # the line is longer than the limit
            error = RpcError(INVALID_REQUEST, "the line is too long").as_json()
            with suppress(OSError):
                writer.write(notification("closing", error))
        except (OSError, asyncio.IncompleteReadError):
            pass
        finally:
            callers.discard(caller)
            with suppress(OSError):
                writer.close()

    async def _answer_watcher(self, line: bytes, caller: Caller) -> bytes | None:
        """Answer who may only watch, after each answer waiting as its part of the time asks."""
        begun = time.thread_time()

        async def rest() -> None:
            nonlocal begun
            now = time.monotonic()
            spent = time.thread_time() - begun
            await asyncio.sleep(max(caller.part.use(spent, now), self._part.use(spent, now)))
            begun = time.thread_time()

        answer = await respond(line, self._for_watchers, caller, MOST_WATCHED, rest)
        await rest()
        return answer

    def subscribers(self, to: Subscription) -> list[Caller]:
        """The subscribers."""
        return [caller for callers in self.callers.values() for caller in callers if caller.subscribed == to]

    def close(self) -> None:
        """Close both, and take them away."""
        for server in self._servers:
            server.close()
        for name in (CONTROL, WATCH):
            with suppress(OSError):
                (self._folder / name).unlink()
        with suppress(OSError):
            self._folder.rmdir()


def methods_data(methods: Mapping[str, Method]) -> dict[str, Any]:
    """What there is to call, with its parameters."""
    return {
        name: {
            "about": method.about,
            "params": method.params.model_json_schema().get("properties", {}),
            "watchers": method.watchers,
        }
        for name, method in methods.items()
    }

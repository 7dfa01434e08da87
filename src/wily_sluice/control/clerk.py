"""The gate's clerk: a process of its own for what takes its time, so that no packet waits for a disk or for a plan.

It reads plans, and keeps what was used of quotas. It is forked from the gate and so is always of the gate's own
version, whatever has been installed meanwhile: what the two hand to each other may be pickled. Should it end, another
is forked; what it had not yet written, it is handed again (`history.quota_store` counts a batch once).
"""

import gc
import os
import pickle
import signal
import socket
import sqlite3
import threading
import time
from collections import deque
from contextlib import suppress
from multiprocessing import get_context
from multiprocessing.connection import Connection
from multiprocessing.context import ForkProcess
from pathlib import Path
from secrets import token_hex
from typing import Any

from wily_sluice.control.log import note
from wily_sluice.errors import LiveError
from wily_sluice.history.quota_store import QuotaStore
from wily_sluice.plan.file.bundle import Bundle
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.model import Plan
from wily_sluice.units import Size

A_BATCH = 500  # accounts that are handed over together
MOST_UNWRITTEN = 64  # batches: while as many wait to be written, no more are handed over
LARGEST_MESSAGE = 1 << 17  # bytes
AGAIN = 1.0  # seconds before something that could not be written is tried again
LAST_TRIES = 5  # after the gate has ended
PATIENCE = 120.0  # seconds for an answer

Charge = tuple[str, str, bytes, Size]


class Clerk:
    """The gate's side. `tick` is to be called now and then; `examine` and `used` wait, so a thread may call them."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._run = token_hex(8)
        self._batch = 0
        self._unwritten: deque[tuple[int, bytes]] = deque()
        self._sent = 0
        self._asking = threading.Lock()
        self._process: ForkProcess | None = None
        self._start()

    def _start(self) -> None:
        context = get_context("fork")
        here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._line, far_line = context.Pipe()
        here.setblocking(False)
        self._paper = here
        with there, far_line:
            keep = (there.fileno(), far_line.fileno())
            self._process = context.Process(target=_work, args=(self._folder, self._run, *keep), daemon=True)
            self._process.start()
        self._sent = 0

    def tick(self) -> None:
        """See whether it lives; hear what it has written; hand it what it has not been handed."""
        if self._process is None:
            return
        try:
            while said := self._paper.recv(64):
                written = int(said)
                while self._unwritten and self._unwritten[0][0] <= written:
                    self._unwritten.popleft()
            ended = True
        except BlockingIOError:
            ended = not self._process.is_alive()
        except OSError:
            ended = True
        if ended:
            self._process.join(0)
            note("clerk.ended", "warning", why="the process that keeps quotas has ended: another is started")
            self._paper.close()
            with self._asking:
                self._line.close()
                self._start()
        self._hand_over()

    def keep(self, limiter: str, period: str, news: dict[bytes, Size]) -> dict[bytes, Size]:
        """Have it kept that so much more was used; what cannot be taken now is given back."""
        rows = [(limiter, period, key, size) for key, size in news.items()]
        while rows and len(self._unwritten) < MOST_UNWRITTEN:
            self._batch += 1
            self._unwritten.append((self._batch, pickle.dumps((self._batch, rows[:A_BATCH]))))
            del rows[:A_BATCH]
        self._hand_over()
        return {key: size for _, _, key, size in rows}

    def _hand_over(self) -> None:
        with suppress(OSError):
            for batch, message in self._unwritten:
                if batch > self._sent:
                    self._paper.send(message)
                    self._sent = batch

    def examine(self, bundle: Bundle) -> Plan:
        """Read a plan. LiveError when it cannot be."""
        plan: Plan = self._ask("examine", bundle)
        return plan

    def used(self, limiter: str, period: str) -> dict[bytes, Size]:
        """What each account of a limiter had used of a period, without what is still to be written. LiveError when
        that cannot be read now.
        """
        found: dict[bytes, Size] = self._ask("used", limiter, period)
        return found

    def _ask(self, *question: Any) -> Any:
        with self._asking:
            try:
                self._line.send(question)
                if not self._line.poll(PATIENCE):
                    raise LiveError("the process that reads plans does not answer")
                answer = self._line.recv()
            except (OSError, EOFError) as error:
                raise LiveError(f"the process that reads plans has ended: {error}; try again") from None
        if isinstance(answer, str):
            raise LiveError(answer)
        return answer

    def close(self) -> None:
        """Let it write what it was handed, and end."""
        process, self._process = self._process, None
        if process is None:
            return
        deadline = time.monotonic() + 5
        self._paper.setblocking(True)
        self._paper.settimeout(1)
        with suppress(OSError):
            self._hand_over()
            self._paper.shutdown(socket.SHUT_WR)
            self._line.close()
            process.join(timeout=max(0.0, deadline - time.monotonic()))
        if process.is_alive():
            process.terminate()
        self._paper.close()


def _work(folder: Path, run: str, paper: int, line: int) -> None:
    """The clerk's own side, in the process that was forked: which must hold nothing of the gate's open."""
    signal.set_wakeup_fd(-1)
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)  # it ends when the gate does, when it has written what was sent
    low, high = sorted((paper, line))
    os.closerange(3, low)
    os.closerange(low + 1, high)
    os.closerange(high + 1, 1 << 16)
    gc.enable()
    writing = threading.Thread(target=_write, args=(folder, run, socket.socket(fileno=paper)))
    writing.start()
    with suppress(OSError, EOFError):
        connection = Connection(line)
        while True:
            what, *question = connection.recv()
            connection.send(_answer(folder, what, question))
    writing.join()
    os._exit(0)


def _answer(folder: Path, what: str, question: list[Any]) -> Any:
    try:
        if what == "examine":
            return question[0].load()
        store = QuotaStore(folder, patience=1)
        try:
            return store.used(*question)
        finally:
            store.close()
    except (FileError, OSError, sqlite3.Error, ValueError) as error:
        return str(error)


def _write(folder: Path, run: str, source: socket.socket) -> None:
    store: QuotaStore | None = None
    told, tries = "", 0
    while message := _next(source):
        batch, rows = pickle.loads(message)
        while True:
            try:
                store = store or QuotaStore(folder)
                store.add(run, batch, rows)
                break
            except (OSError, sqlite3.Error) as error:
                if str(error) != told:
                    told = str(error)
                    note("quotas.unwritten", "error", folder=str(folder), why=told)
                tries += _over(source)
                if tries > LAST_TRIES:
                    return
                time.sleep(AGAIN)
        told = ""
        with suppress(OSError):
            source.send(str(batch).encode())
    if store is not None:
        with suppress(sqlite3.Error):
            store.close()


def _next(source: socket.socket) -> bytes:
    """The next message; empty when the gate has gone, be it with an answer of ours unread."""
    try:
        return source.recv(LARGEST_MESSAGE)
    except ConnectionResetError:
        return b""


def _over(source: socket.socket) -> bool:
    """Whether the gate has gone, so that nothing is waited for any longer."""
    try:
        return not source.recv(1, socket.MSG_PEEK | socket.MSG_DONTWAIT)
    except BlockingIOError:
        return False
    except OSError:
        return True

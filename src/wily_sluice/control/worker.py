"""The gate's worker: a separate process for slow work, so that no packet waits for a disk or for a plan.

It reads plans, and stores the use of quotas. It is forked from the gate, so it has the gate's version, even after an
upgrade, and plans can be passed pickled. If it ends, another is forked and gets the batches not yet written again
(`history.quota_store` counts a batch once).
"""

import gc
import os
import pickle
import select
import signal
import socket
import sqlite3
import threading
import time
from collections import deque
from contextlib import suppress
from multiprocessing import get_context
from multiprocessing.context import ForkProcess
from pathlib import Path
from secrets import token_hex

from wily_sluice.control.link.link import Link
from wily_sluice.control.link.messages import (
    Batch,
    Charge,
    Examine,
    FromWorker,
    PlanRead,
    Refused,
    ToWorker,
    Used,
    UsedSoFar,
    Written,
)
from wily_sluice.control.log import note
from wily_sluice.errors import LiveError
from wily_sluice.history.stores import QuotaStore
from wily_sluice.plan.file.bundle import Bundle
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.model import Plan
from wily_sluice.units import Size

A_BATCH = 500  # accounts that are handed over together
MOST_UNWRITTEN = 64  # batches: while as many wait to be written, no more are handed over
AGAIN = 1.0  # seconds before a failed write is tried again
TRIED_ALONE = 8.0  # seconds after the gate has ended in which it is still tried
PATIENCE = 120.0  # seconds for an answer


class Worker:
    """The gate's side. Call `tick` regularly; `examine` and `used` block, so call them in a thread."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._run = token_hex(8)
        self._batch = 0
        self._unwritten: deque[Batch] = deque()
        self._sent = 0
        self._asking = threading.Lock()
        self._process: ForkProcess | None = None
        self._start()

    def _start(self) -> None:
        ours, theirs = zip(*(socket.socketpair() for _ in range(2)), strict=True)
        self._ends = ours
        with theirs[0], theirs[1]:
            what = (self._folder, self._run, *(end.fileno() for end in theirs))
            self._process = get_context("fork").Process(target=_work, args=what, daemon=True)
            self._process.start()
        self._charges: Link[Written] = Link(ours[0], Written)
        self._questions: Link[FromWorker] = Link(ours[1], FromWorker)
        self._sent = 0

    def tick(self) -> None:
        """Check that it lives, note the written batches, and send new ones."""
        if self._process is None:
            return
        try:
            for written in self._charges.receive():
                while self._unwritten and self._unwritten[0].number <= written.number:
                    self._unwritten.popleft()
            ended = not self._process.is_alive()
        except EOFError:
            ended = True
        if ended:
            self._process.join(0)
            if not self._asking.acquire(blocking=False):
                return  # somebody waits for an answer, and is about to see that none comes
            note("worker.ended", "warning", why="the process that keeps quotas has ended: another is started")
            try:
                self._charges.close()
                self._questions.close()
                self._start()
            finally:
                self._asking.release()
        self._hand_over()

    def keep(self, limiter: str, period: str, news: dict[bytes, Size]) -> dict[bytes, Size]:
        """Store these increments of use; returns those that cannot be taken now."""
        charges = [Charge(limiter, period, account, size) for account, size in news.items()]
        while charges and len(self._unwritten) < MOST_UNWRITTEN:
            self._batch += 1
            self._unwritten.append(Batch(self._batch, charges[:A_BATCH]))
            del charges[:A_BATCH]
        self._hand_over()
        return {charge.account: charge.size for charge in charges}

    def _hand_over(self) -> None:
        with suppress(EOFError):
            self._charges.flush()
            for batch in self._unwritten:
                if batch.number > self._sent and not self._charges.behind:
                    self._charges.send(batch)
                    self._sent = batch.number

    def examine(self, bundle: Bundle) -> Plan:
        """Read a plan. LiveError if that fails."""
        answer = self._ask(Examine(bundle))
        assert isinstance(answer, PlanRead)
        plan: Plan = pickle.loads(answer.pickled)
        return plan

    def used(self, limiter: str, period: str) -> dict[bytes, Size]:
        """The use of each account of a limiter in a period, without unwritten batches. LiveError if that cannot be read
        now.
        """
        answer = self._ask(Used(limiter, period))
        assert isinstance(answer, UsedSoFar)
        return answer.accounts

    def _ask(self, question: Examine | Used) -> FromWorker:
        with self._asking:
            try:
                self._questions.send(question)
                answers = self._questions.exchange(PATIENCE)
            except (OSError, EOFError, ValueError):  # ValueError: it was closed
                raise LiveError("the process that reads plans ended; try again") from None
        if not answers:
            if self._process is not None:
                self._process.kill()  # so that no later question gets this one's answer
            raise LiveError("the process that reads plans does not answer")
        if isinstance(answers[0], Refused):
            raise LiveError(answers[0].why)
        return answers[0]

    def close(self) -> None:
        """Let it finish writing, and end it."""
        process, self._process = self._process, None
        if process is None:
            return
        deadline = time.monotonic() + 5
        with suppress(OSError, EOFError):
            while self._charges.behind or (self._unwritten and self._sent < self._unwritten[-1].number):
                self._hand_over()
                self._charges.exchange(0.1)
                if time.monotonic() > deadline:
                    break
            self._ends[0].shutdown(socket.SHUT_WR)
            self._questions.close()
            process.join(timeout=max(0.0, deadline - time.monotonic()))
        if process.is_alive():
            process.terminate()
        self._charges.close()


def _work(folder: Path, run: str, charges: int, questions: int) -> None:
    """The worker's own side, in the forked process, which must close all that the gate has open."""
    signal.set_wakeup_fd(-1)
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)  # it ends with the gate, once it has written what was sent
    low, high = sorted((charges, questions))
    os.closerange(3, low)
    os.closerange(low + 1, high)
    os.closerange(high + 1, 1 << 16)
    gc.enable()
    writing = threading.Thread(target=_write, args=(folder, run, socket.socket(fileno=charges)))
    writing.start()
    with suppress(OSError, EOFError):
        link: Link[ToWorker] = Link(socket.socket(fileno=questions), ToWorker)
        while True:
            for question in link.exchange():
                link.send(_answer(folder, question))
    writing.join()
    os._exit(0)


def _answer(folder: Path, question: ToWorker) -> FromWorker:
    try:
        if isinstance(question, Examine):
            return PlanRead(pickle.dumps(question.bundle.load()))
        store = QuotaStore(folder, patience=1)
        try:
            return UsedSoFar(store.used(question.limiter, question.period))
        finally:
            store.close()
    except (FileError, OSError, sqlite3.Error, ValueError) as error:
        return Refused(str(error))


def _write(folder: Path, run: str, end: socket.socket) -> None:
    """Store batches until the gate is gone, even with an answer unread."""
    book = _Book(folder, run, end)
    with suppress(EOFError):
        link: Link[Batch] = Link(end, Batch)
        while True:
            for batch in link.exchange():
                book.write(batch)
                link.send(Written(batch.number))
    book.close()


class _Book:
    """The store for batches; opened however many attempts that takes."""

    def __init__(self, folder: Path, run: str, end: socket.socket) -> None:
        self._folder, self._run, self._end = folder, run, end
        self._store: QuotaStore | None = None
        self._told, self._alone_since = "", 0.0

    def write(self, batch: Batch) -> None:
        """Write a batch. EOFError if that fails and the gate is gone."""
        rows = [(charge.limiter, charge.period, charge.account, charge.size) for charge in batch.charges]
        while True:
            try:
                self._store = self._store or QuotaStore(self._folder)
                self._store.add(self._run, batch.number, rows)
                break
            except (OSError, sqlite3.Error) as error:
                if str(error) != self._told:
                    self._told = str(error)
                    note("quotas.unwritten", "error", folder=str(self._folder), why=self._told)
                if not self._alone_since and self._alone():
                    self._alone_since = time.monotonic()
                if self._alone_since and time.monotonic() - self._alone_since > TRIED_ALONE:
                    raise EOFError from error
                time.sleep(AGAIN)
        self._told = ""

    def _alone(self) -> bool:
        """Whether the gate is gone, so that there is nothing left to wait for, even with messages unread."""
        poll = select.poll()
        poll.register(self._end, select.POLLRDHUP)
        return bool(poll.poll(0))

    def close(self) -> None:
        """Close the store, as far as it is open."""
        if self._store is not None:
            with suppress(sqlite3.Error):
                self._store.close()

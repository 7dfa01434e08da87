"""Runs slow tasks outside the gate's loop, in one thread for each kind, and returns the results.

A thread alternates with the loop at the interpreter, for at most THREAD_TURN. It has the loop's priority, because a
thread that is preempted while it holds the interpreter would block the loop too. Threads wait for the next task of
their kind, because starting one may be slow.
"""

import os
from collections import deque
from collections.abc import Callable
from queue import SimpleQueue
from threading import Thread
from typing import Any, NamedTuple

from wily_sluice.gate.kernel.process import run_before_others

THREAD_TURN = 0.0005  # seconds that a thread may hold the loop up


class _Thing(NamedTuple):
    work: Callable[[], Any]
    then: Callable[[Any], None]


class BackgroundTasks:
    """`waker` is written to when `done` should be called. One task of each kind runs at a time."""

    def __init__(self, waker: int) -> None:
        self._waker = waker
        self._busy: set[str] = set()
        self._waiting: dict[str, SimpleQueue[_Thing]] = {}
        self._over: deque[tuple[str, Callable[[Any], None], Any]] = deque()

    def do(self, kind: str, work: Callable[[], Any], then: Callable[[Any], None]) -> bool:
        """Begin a task; `then` is called later, between two turns, with its result or its exception.

        Returns False, with nothing done, while a task of this kind is running.
        """
        if kind in self._busy:
            return False
        self._busy.add(kind)
        if kind not in self._waiting:
            self._waiting[kind] = SimpleQueue()
            Thread(target=self._run, args=(kind, self._waiting[kind]), daemon=True).start()
        self._waiting[kind].put(_Thing(work, then))
        return True

    def __contains__(self, kind: str) -> bool:
        return kind in self._busy

    def _run(self, kind: str, waiting: "SimpleQueue[_Thing]") -> None:
        run_before_others()
        while True:
            thing = waiting.get()
            result: Any = None
            try:
                result = thing.work()
            except Exception as error:  # whatever it is, the gate continues, and the caller gets the error
                result = error
            self._over.append((kind, thing.then, result))
            try:
                os.write(self._waker, b".")
            except BlockingIOError:  # full, so it is read in any case
                continue
            except OSError:  # the gate has ended
                return

    def done(self) -> None:
        """Call `done` for the tasks that have ended."""
        while self._over:
            kind, then, result = self._over.popleft()
            self._busy.discard(kind)
            then(result)

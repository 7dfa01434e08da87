"""Does beside the gate's loop what would hold it up, each in a thread of its own, and hands back what came of it.

A thread takes turns at the interpreter with the loop, by THREAD_TURN at most; it has the loop's own priority, since a
thread that holds the interpreter and is itself kept waiting by others would keep the loop waiting too.
"""

import os
from collections import deque
from collections.abc import Callable
from threading import Thread
from typing import Any

from wily_sluice.gate.urgency import run_before_others

THREAD_TURN = 0.0005  # seconds that a thread may hold the loop up


class Beside:
    """`waker` is written to when `done` should be called. One thing of each kind goes on at a time."""

    def __init__(self, waker: int) -> None:
        self._waker = waker
        self._busy: set[str] = set()
        self._over: deque[tuple[str, Callable[[Any], None], Any]] = deque()

    def do(self, kind: str, work: Callable[[], Any], then: Callable[[Any], None]) -> bool:
        """Begin something; `then` is called later, between two turns, with what it gave, or with what it
        raised. False, and nothing done, while one of this kind goes on.
        """
        if kind in self._busy:
            return False
        self._busy.add(kind)
        Thread(target=self._run, args=(kind, work, then), daemon=True).start()
        return True

    def __contains__(self, kind: str) -> bool:
        return kind in self._busy

    def _run(self, kind: str, work: Callable[[], Any], then: Callable[[Any], None]) -> None:
        run_before_others()
        result: Any = None
        try:
            result = work()
        except Exception as error:  # whatever it is, the gate goes on, and who asked is told
            result = error
        self._over.append((kind, then, result))
        try:
            os.write(self._waker, b".")
        except OSError:  # full, so it is read in any case; or the gate has ended
            return

    def done(self) -> None:
        """Hand back what is over."""
        while self._over:
            kind, then, result = self._over.popleft()
            self._busy.discard(kind)
            then(result)

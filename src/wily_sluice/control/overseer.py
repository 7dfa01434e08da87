"""The gate's end of the link to the process beside it: takes orders, tells what happens, and watches over trials.

A trial is the gate's own affair, so that it ends even if nothing else lives: when its time is up, on the clock that
goes on while the machine sleeps, the plan before it is taken up again. Should the process beside it end, another is
started; the gate goes on shaping meanwhile.

Orders are a word, a number by which they are answered, and what belongs to them: see `_obey`.
"""

import pickle
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from wily_sluice.control.link import Link, Message
from wily_sluice.gate.counters import Row
from wily_sluice.gate.gate import Gate
from wily_sluice.gate.look import look_at
from wily_sluice.plan.model import Plan
from wily_sluice.units import SECOND, Nanoseconds

MOST_ROWS = 200_000  # that wait for a process that does not take them
AGAIN: Nanoseconds = 2 * SECOND  # before a process that ended is started again
NOT_KEPT = "its time was up, and nobody had kept it"


def boot_clock() -> Nanoseconds:
    """A clock that never steps and goes on while the machine sleeps."""
    return time.clock_gettime_ns(time.CLOCK_BOOTTIME)


@dataclass(slots=True)
class Trial:
    """A plan on trial until `ends`, on the boot clock, when `before` comes back; unless `held`, while it is kept."""

    revision: int
    ends: Nanoseconds
    before: bytes
    before_revision: int
    held: bool = False


def _unpickled(plan: bytes) -> Plan:
    loaded: Plan = pickle.loads(plan)
    return loaded


class Overseer:
    """`command` starts the process; the number of its end of the link is put behind it.

    `notify` is told `READY=1` and, as often as it ticks, `WATCHDOG=1`.
    """

    def __init__(self, command: Sequence[str], plan: Plan, revision: int, notify: Callable[[str], None]) -> None:
        self.revision = revision
        self._plan = pickle.dumps(plan)
        self._command = command
        self._notify = notify
        self._gate: Gate | None = None
        self._nobody, self._nobody_else = socket.socketpair()  # read from while no process is there
        self._link: Link | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._start_at: Nanoseconds = 0
        self._running = False
        self._rows: list[Row] = []
        self._lasted: Nanoseconds = 0
        self._missing: set[str] = set()
        self._trial: Trial | None = None
        self._start()

    def oversee(self, gate: Gate) -> None:
        """Say which gate it is for; before that runs."""
        self._gate = gate

    def _start(self) -> None:
        here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
        with there:
            try:
                self._process = subprocess.Popen(
                    [*self._command, str(there.fileno())], pass_fds=[there.fileno()], stdin=subprocess.DEVNULL
                )
            except OSError as error:
                print(f"the process beside the gate cannot be started: {error}", file=sys.stderr, flush=True)
                here.close()
                self._start_at = boot_clock() + AGAIN
                return
        self._link = Link(here)

    def fileno(self) -> int:
        """For select."""
        return self._link.fileno() if self._link is not None else self._nobody.fileno()

    def turn(self) -> None:
        """Do what the process beside the gate asks for."""
        if self._link is None:
            return
        try:
            for message in self._link.receive():
                self._obey(message)
        except EOFError:
            self._lost()

    def _lost(self) -> None:
        assert self._link is not None
        self._link.close()
        self._link = None
        if self._trial is not None:
            self._trial.held = False  # if it was written down that it is kept, the next process will say so
        self._start_at = boot_clock() + AGAIN
        if self._running:
            print("the process beside the gate has ended; the gate goes on", file=sys.stderr, flush=True)

    def _say(self, *message: object) -> None:
        if self._link is not None:
            try:
                self._link.send(*message)
            except EOFError:
                self._lost()

    def ready(self) -> None:
        """The gate shapes."""
        self._running = True
        self._say_state()
        self._notify("READY=1\nSTATUS=shaping")

    def _say_state(self) -> None:
        assert self._gate is not None
        trial = self._trial
        self._say(
            "state", self.revision, self._plan, (trial.ends, trial.before_revision, trial.before) if trial else None
        )
        for name in sorted(self._missing):
            self._say("interface", name, False)

    def told(self, interface: str, here: bool) -> None:
        """An interface of an uplink has gone, or is back."""
        self._missing = self._missing - {interface} if here else self._missing | {interface}
        if self._running:
            self._say("interface", interface, here)

    def tick(self, rows: list[Row], lasted: Nanoseconds) -> None:
        """Tell what was counted; see whether a trial is over."""
        assert self._gate is not None
        self._notify("WATCHDOG=1")
        now = boot_clock()
        if self._link is None and now >= self._start_at:
            if self._process is not None:
                self._process.poll()
            self._start()
            self._say_state()
        if len(self._rows) < MOST_ROWS:
            self._rows += rows
        self._lasted += lasted
        if self._link is not None and not self._link.behind:
            strays = (self._gate.unreadable, self._gate.unshaped)
            self._say(
                "tick", time.time(), self._rows, self._lasted, strays, self._gate.talks(), self._gate.visits.take()
            )
            self._rows, self._lasted = [], 0
        elif self._link is not None:
            try:
                self._link.flush()
            except EOFError:
                self._lost()
        if self._trial is not None and not self._trial.held and now >= self._trial.ends:
            self._undo(NOT_KEPT)

    def _obey(self, message: Message) -> None:
        """Carry out an order."""
        assert self._gate is not None
        word, number, *rest = message
        if word == "take":
            self._take(number, *rest)
        elif word == "hold":
            self._answer(number, self._hold(*rest))
        elif word == "resume":
            if self._trial is not None:
                self._trial.held = False
            self._answer(number, "")
        elif word == "kept":
            self._trial = None
            self._answer(number, "")
        elif word == "undo":
            self._answer(number, self._undo(*rest))
        elif word == "look":
            self._answer(number, look_at(self._gate.engine, *rest))
        elif word == "watch":
            self._gate.watch(*rest)
        elif word == "stop":
            self._answer(number, "")
            self._gate.stop()

    def _answer(self, number: int, answer: object) -> None:
        self._say("done", number, answer)

    def _take(self, number: int, plan: bytes, revision: int, trial: Nanoseconds | None) -> None:
        """Go on by a plan, pickled: for good, or on trial for so long."""
        assert self._gate is not None
        before, before_revision = self._plan, self.revision

        def done(trouble: str) -> None:
            if not trouble:
                self._plan, self.revision = plan, revision
                self._trial = None
                if trial is not None:
                    self._trial = Trial(revision, boot_clock() + trial, before, before_revision)
            self._answer(number, trouble)

        self._gate.offer(lambda: _unpickled(plan), done)

    def _hold(self, revision: int) -> str:
        """Let a trial's time stand still, while it is written down that it is kept."""
        if self._trial is None or self._trial.revision != revision:
            return "it is on trial no longer"
        self._trial.held = True
        return ""

    def _undo(self, why: str) -> str:
        """Take up again what was before the trial. Should that fail, it is tried again."""
        trial, gate = self._trial, self._gate
        assert gate is not None
        if trial is None:
            return "nothing is on trial"
        trial.ends = boot_clock() + AGAIN

        def done(trouble: str) -> None:
            if trouble:
                print(f"revision {trial.before_revision} cannot be taken up again yet: {trouble}", file=sys.stderr)
            else:
                self._plan, self.revision, self._trial = trial.before, trial.before_revision, None
                self._say("undone", trial.revision, trial.before_revision, trial.before, why)

        gate.offer(lambda: _unpickled(trial.before), done)
        return ""

    def close(self) -> None:
        """Let the process end, and wait for it a little."""
        self._running = False
        self._notify("STOPPING=1")
        if self._link is not None:
            self._link.close()
        self._nobody.close()
        self._nobody_else.close()
        if self._process is not None:
            try:
                self._process.wait(timeout=5)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()

"""The gate's end of the link to its second process: receives orders, reports events, and supervises trials.

The gate itself is responsible for a trial, so that it ends even if all other processes have died. When the time is up,
on the clock that runs during sleep, the gate returns to the previous plan. If the second process ends, another is
started and the gate keeps shaping. A process that has not received a tick for DEAF is ended.
"""

import os
import socket
import subprocess
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from wily_sluice.control.link.link import Link, OtherVersion
from wily_sluice.control.link.messages import (
    Ask,
    Done,
    Event,
    Health,
    Heard,
    Hello,
    Hold,
    Interface,
    Kept,
    Message,
    Opened,
    Past,
    Resume,
    Rows,
    Seen,
    State,
    Stop,
    Take,
    Tick,
    ToGate,
    Undo,
    Undone,
    Watch,
)
from wily_sluice.control.log import note
from wily_sluice.errors import LiveError
from wily_sluice.gate.gate import Gate
from wily_sluice.gate.kernel.process import Heart
from wily_sluice.gate.look import look_at
from wily_sluice.gate.observers import CounterRow
from wily_sluice.plan.file.bundle import Bundle
from wily_sluice.plan.model import Plan
from wily_sluice.units import SECOND, Nanoseconds

MOST_ROWS = 200_000  # that wait for a process that does not take them
A_MESSAGE = 200  # rows that are sent together
DEAF: Nanoseconds = 30 * SECOND  # for which it may take nothing
AGAIN: Nanoseconds = 2 * SECOND  # before a process that ended is started again
NOT_KEPT = "it was not kept in time"


def boot_clock() -> Nanoseconds:
    """A clock that never steps and also runs while the machine sleeps."""
    return time.clock_gettime_ns(time.CLOCK_BOOTTIME)


@dataclass(slots=True)
class Trial:
    """A plan on trial until `ends`, on the boot clock, when `before` returns; unless `held`, while it is being kept.

    The previous plan is kept in memory, already read, so its return needs neither disk nor another process.
    """

    revision: int
    ends: Nanoseconds
    before: Bundle
    before_plan: Plan
    before_revision: int
    held: bool = False


class Supervisor:
    """`command` starts the process; the descriptors of its end of the link and of the gate's heart, which it watches,
    and the gate's process are appended. `read` reads a plan, and may be slow.

    `notify` receives `READY=1` and, with every tick, `WATCHDOG=1`.
    """

    def __init__(
        self,
        command: Sequence[str],
        bundle: Bundle,
        revision: int,
        notify: Callable[[str], None],
        read: Callable[[Bundle], Plan],
    ) -> None:
        self.revision = revision
        self._bundle = bundle
        self._command = command
        self._notify = notify
        self._read = read
        self.heart = Heart()
        self._gate: Gate | None = None
        self._nobody, self._nobody_else = socket.socketpair()  # read from while no process is there
        self._link: Link[ToGate] | None = None
        self._other = False  # it is of another version of the program
        self._process: subprocess.Popen[bytes] | None = None
        self._start_at: Nanoseconds = 0
        self._running = False
        self._begun: Nanoseconds = 0
        self._rows: list[CounterRow] = []
        self._lasted: Nanoseconds = 0
        self._heard: Nanoseconds = 0
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
                passed = [there.fileno(), self.heart.descriptor]
                command = [*self._command, *map(str, passed), str(os.getpid())]
                self._process = subprocess.Popen(command, pass_fds=passed, stdin=subprocess.DEVNULL)
            except OSError as error:
                note("api.unusable", "error", why=str(error))
                here.close()
                self._start_at = boot_clock() + AGAIN
                return
        self._link = Link(here, ToGate)
        self._other = False
        self._heard = boot_clock()

    def fileno(self) -> int:
        """For select."""
        return self._link.fileno() if self._link is not None else self._nobody.fileno()

    def turn(self) -> None:
        """Carry out the orders of the second process."""
        if self._link is None:
            return
        try:
            for message in self._link.receive():
                self._obey(message)
        except EOFError:
            self._lost()
        except OtherVersion:
            self._other = True  # it can still tell people so, and nothing else

    def _lost(self) -> None:
        assert self._link is not None
        self._link.close()
        self._link = None
        if self._trial is not None:
            self._trial.held = False  # if it was written down that it is kept, the next process will say so
        self._start_at = boot_clock() + AGAIN
        if self._running:
            note("api.ended", "warning", why="the process that serves clients has ended: another is started")

    def _say(self, message: Message) -> None:
        if self._link is not None and not self._other:
            try:
                self._link.send(message)
            except EOFError:
                self._lost()

    def ready(self) -> None:
        """The gate shapes."""
        self._running, self._begun = True, boot_clock()
        self._introduce()
        self._notify("READY=1\nSTATUS=shaping")

    def _introduce(self) -> None:
        """Tell a process that has just begun what there is."""
        self._say_state()
        for name in sorted(self._missing):
            self._say(Interface(name, False))

    def _say_state(self) -> None:
        trial = self._trial
        past = Past(trial.ends, trial.before_revision, trial.before) if trial is not None else None
        self._say(State(self.revision, self._bundle, past, self._begun))

    def told(self, interface: str, here: bool) -> None:
        """An interface of an uplink has gone, or is back."""
        self._missing = self._missing - {interface} if here else self._missing | {interface}
        if self._running:
            self._say(Interface(interface, here))

    def happened(self, event: str, level: str, **about: str | int | float | bool) -> None:
        """An event for the log, which the second process writes and keeps for the status."""
        if self._link is not None:
            self._say(Event(event, level, about))

    def count(self, rows: list[CounterRow]) -> None:
        """Report counters; they are kept while the other process does not accept them."""
        if self._link is not None and not self._link.behind and not self._rows:
            self._say(Rows(rows))
        elif len(self._rows) < MOST_ROWS:
            self._rows += rows

    def tick(self, lasted: Nanoseconds) -> None:
        """Tell that this was all for now; see whether a trial is over, and whether the other process lives."""
        assert self._gate is not None
        self._notify("WATCHDOG=1")
        now = boot_clock()
        if self._link is None and now >= self._start_at:
            if self._process is not None:
                self._process.poll()
            self._start()
            self._introduce()
        self._lasted += lasted
        if self._other:
            self._heard, self._rows = now, []
        if self._link is not None and now - self._heard > DEAF and self._process is not None:
            note("api.deaf", "warning", why=f"the process that serves clients has not answered for {DEAF // SECOND} s")
            self._process.kill()
            self._lost()
        if self._link is not None and not self._link.behind:
            rows, self._rows = self._rows, []
            for first in range(0, len(rows), A_MESSAGE):
                self._say(Rows(rows[first : first + A_MESSAGE]))
            health = Health(*self._gate.state(self._lasted))
            self._say(Tick(time.time(), self._lasted, health, self._gate.talks(), self._gate.visits.take()))
            self._lasted = 0
        elif self._link is not None:
            try:
                self._link.flush()
            except EOFError:
                self._lost()
        if self._trial is not None and not self._trial.held and now >= self._trial.ends:
            self._undo(NOT_KEPT)

    def _obey(self, message: ToGate) -> None:
        """Carry out an order."""
        assert self._gate is not None
        match message:
            case Take():
                self._take(message)
            case Hold(number, revision):
                self._answer(number, self._hold(revision))
            case Resume(number):
                if self._trial is not None:
                    self._trial.held = False
                self._answer(number, "")
            case Kept(number):
                self._trial = None
                self._answer(number, "")
            case Undo(number, why):
                self._answer(number, self._undo(why))
            case Ask(number, key):
                self._say(Seen(number, look_at(self._gate.engine, key)))
            case Watch(pace, conversations):
                self._gate.watch(pace, conversations)
            case Opened(ports):
                self._gate.ports_opened(ports)
            case Heard():
                self._heard = boot_clock()
            case Stop(number):
                self._answer(number, "")
                self._gate.stop()
            case Hello():
                pass

    def _answer(self, number: int, trouble: str) -> None:
        self._say(Done(number, trouble))

    def _take(self, order: Take) -> None:
        """Go on by a plan: for good, or on trial for so long."""
        gate = self._gate
        assert gate is not None
        before, before_plan, before_revision = self._bundle, gate.plan, self.revision

        def read() -> Plan:
            plan = self._read(order.bundle)
            if boot_clock() >= order.until:
                raise LiveError("it took too long, and who asked for it no longer waits")
            return plan

        def done(trouble: str) -> None:
            if not trouble:
                self._bundle, self.revision = order.bundle, order.revision
                self._trial = None
                if order.trial is not None:
                    ends = boot_clock() + order.trial
                    self._trial = Trial(order.revision, ends, before, before_plan, before_revision)
                self._say_state()
            self._answer(order.number, trouble)

        gate.offer(read, done)

    def _hold(self, revision: int) -> str:
        """Stop a trial's clock while it is recorded as kept."""
        if self._trial is None or self._trial.revision != revision:
            return "it is on trial no longer"
        self._trial.held = True
        return ""

    def _undo(self, why: str) -> str:
        """Return to the plan before the trial. After a failure, it is tried again."""
        trial, gate = self._trial, self._gate
        assert gate is not None
        if trial is None:
            return "nothing is on trial"
        trial.ends = boot_clock() + AGAIN

        def done(trouble: str) -> None:
            if trouble:
                note("trial.stuck", "error", revision=trial.revision, before=trial.before_revision, why=trouble)
            else:
                self._bundle, self.revision, self._trial = trial.before, trial.before_revision, None
                self._say(Undone(trial.revision, trial.before_revision, trial.before, why))

        gate.offer(lambda: trial.before_plan, done)
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

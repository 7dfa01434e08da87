"""This process: threads for slow work, commands of the operating system, priority, and one gate per network namespace.

One gate per network namespace, by a lock on a file in a folder that only root can write to.

The lock belongs to the process (fcntl(2), F_SETLK): it ends with the process, and its forks do not have it.

Runs slow tasks outside the gate's loop, in one thread for each kind, and returns the results.

A gate that hangs holds the packets of all hosts, so a second process watches its heart and ends it.

A thread alternates with the loop at the interpreter, for at most THREAD_TURN. It has the loop's priority, because a
thread that is preempted while it holds the interpreter would block the loop too. Threads wait for the next task of
their kind, because starting one may be slow.
"""

import contextlib
import fcntl
import mmap
import os
import shutil
import signal
import subprocess
import sys
import time
from collections import deque
from collections.abc import Callable, Sequence
from pathlib import Path
from queue import SimpleQueue
from threading import Thread
from typing import Any, NamedTuple

from wily_sluice.errors import LiveError

# What begins one of our own programs: without `-P`, a module of the current folder would be taken for one of ours.
PYTHON = (sys.executable, "-P", "-m")
PACKAGES = {
    "iptables": "iptables",
    "ip6tables": "iptables",
    "iptables-restore": "iptables",
    "ip6tables-restore": "iptables",
    "ip": "iproute2",
}


def absent() -> tuple[str, ...]:
    """The commands that the gate needs and that are not there."""
    return tuple(command for command in ("ip", "iptables", "ip6tables") if shutil.which(command) is None)


def require(*commands: str) -> None:
    """LiveError if one of these is not installed."""
    for command in commands:
        if shutil.which(command) is None:
            raise LiveError(f"the command {command} is missing: install the package {PACKAGES.get(command, command)}")


def run(command: Sequence[str], stdin: str | None = None, check: bool = True) -> subprocess.CompletedProcess[str]:
    """Run a command to its end. LiveError when it is not there, or fails and `check` is set."""
    require(command[0])
    done = subprocess.run(command, input=stdin, capture_output=True, text=True, check=False)
    if check and done.returncode:
        raise LiveError(f"`{' '.join(command)}` failed: {done.stderr.strip() or f'status {done.returncode}'}")
    return done


def remove_chains(family: str, table: str, chains: Sequence[str]) -> bool:
    """Remove chains, and all rules that jump to them, in one step. False if there were none. LiveError on refusal."""
    saved = run([f"{family}-save", "-t", table]).stdout.splitlines()
    ours = [chain for chain in chains if any(line.startswith(f":{chain} ") for line in saved)]
    if not ours:
        return False
    rules = [line.split() for line in saved if line.startswith("-A ")]
    jumps = [words for words in rules if words[-2] in ("-j", "-g") and words[-1] in ours and words[1] not in ours]
    lines = [f"*{table}", *(" ".join(("-D", *words[1:])) for words in jumps)]
    lines += [*(f"-F {chain}" for chain in ours), *(f"-X {chain}" for chain in ours), "COMMIT", ""]
    run([f"{family}-restore", "-w", "--noflush"], stdin="\n".join(lines))
    return True


RUN = Path("/run/wily-sluice")


def network_namespace() -> int:
    """The inode of the network namespace that this process is in, which tells it from others."""
    return Path("/proc/self/ns/net").stat().st_ino


def take_lock(folder: Path = RUN) -> int:
    """A file descriptor that holds the lock until it is closed. LiveError when another gate has it."""
    folder.mkdir(mode=0o755, exist_ok=True)
    lock = os.open(folder / f"net-{network_namespace()}.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.lockf(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(lock)
        raise LiveError("another gate runs here already: stop it first") from None
    return lock


def run_before_others() -> None:
    """Take a real-time priority, the lowest there is, where the system allows it.

    The kernel keeps a part of every second for the others (sched_rt_runtime_us), so a busy gate does not lock the
    machine up; and a real-time process is woken without the slack that others' timers have.
    """
    with contextlib.suppress(OSError):
        lowest = os.sched_param(os.sched_get_priority_min(os.SCHED_RR))
        os.sched_setscheduler(0, os.SCHED_RR | os.SCHED_RESET_ON_FORK, lowest)  # what it starts is as all others


def run_when_idle() -> None:
    """Run only where a processor would have nothing else to do."""
    os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))


class Heart:
    """Beats with each turn of the gate's loop, in memory shared with the process that watches. It shows 0 before the
    first beat and after `rest`, and is not watched then.
    """

    def __init__(self, descriptor: int | None = None) -> None:
        self.descriptor = os.memfd_create("heart") if descriptor is None else descriptor
        os.truncate(self.descriptor, 1)
        self._memory = mmap.mmap(self.descriptor, 1)
        self._beats = 0

    def beat(self) -> None:
        """Once more."""
        self._beats = self._beats % 255 + 1
        self._memory[0] = self._beats

    def rest(self) -> None:
        """Beat no more."""
        self._memory[0] = 0

    @property
    def count(self) -> int:
        """What it shows: 0 while it rests."""
        return self._memory[0]


LOOKS = 0.05  # seconds from look to look
STILL, STILL_BUSY = 1.2, 4.0  # seconds without a beat: of one that does nothing, of one that works


def watch_over(heart: Heart, process: int, hung: Callable[[float], None]) -> None:
    """End our parent process if its heart does not beat; `hung` is called first, with the seconds since the last beat.

    Time is counted in looks, so a pause of the whole machine does not count. A process that works may only be slow.
    """
    try:
        parent = os.pidfd_open(process)
    except OSError:
        return
    if os.getppid() != process:
        return  # it has ended, and the number may be somebody else's by now
    seen, since, worked, busy = 0, 0.0, 0, 0.0
    while True:
        time.sleep(LOOKS)
        count = heart.count
        if not count or count != seen:
            seen, since, busy = count, 0.0, 0.0
            continue
        since += LOOKS
        try:
            fields = Path(f"/proc/{process}/stat").read_text().rsplit(")", 1)[1].split()
        except OSError:
            return  # it has ended
        works = int(fields[11]) + int(fields[12])
        busy += LOOKS if works != worked else 0.0
        worked = works
        if since >= STILL_BUSY or (since >= STILL and busy < since / 2):
            hung(since)
            with contextlib.suppress(OSError):
                signal.pidfd_send_signal(parent, signal.SIGKILL)
            return


THREAD_TURN = 0.0005  # seconds that a thread may hold the loop up


LATE = 15.0  # seconds of a task, after which that is told


class _Thing(NamedTuple):
    work: Callable[[], Any]
    then: Callable[[Any], None]


class BackgroundTasks:
    """`waker` is written to when `done` should be called. One task of each kind runs at a time."""

    def __init__(self, waker: int) -> None:
        self._waker = waker
        self._busy: dict[str, float] = {}  # and since when
        self._late: set[str] = set()
        self._waiting: dict[str, SimpleQueue[_Thing]] = {}
        self._over: deque[tuple[str, Callable[[Any], None], Any]] = deque()

    def do(self, kind: str, work: Callable[[], Any], then: Callable[[Any], None]) -> bool:
        """Begin a task; `then` is called later, between two turns, with its result or its exception.

        Returns False, with nothing done, while a task of this kind is running.
        """
        if kind in self._busy:
            return False
        self._busy[kind] = time.monotonic()
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
            self._busy.pop(kind, None)
            self._late.discard(kind)
            then(result)

    def late(self) -> list[str]:
        """The kinds whose task has taken longer than LATE, once each."""
        now = time.monotonic()
        late = [kind for kind, since in self._busy.items() if now - since > LATE and kind not in self._late]
        self._late.update(late)
        return late


CONTROL, WATCH = "control.sock", "watch.sock"


def runtime_folder() -> Path:
    """The folder of the gate in the network namespace that this process is in."""
    return RUN / f"net-{network_namespace()}"

"""This process and others: commands of the operating system, priority, and one gate per network namespace.

One gate per network namespace, by a lock on a file in a folder that only root can write to.

The lock belongs to the process (fcntl(2), F_SETLK): it ends with the process, and its forks do not have it.
"""

import contextlib
import fcntl
import os
import shutil
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

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

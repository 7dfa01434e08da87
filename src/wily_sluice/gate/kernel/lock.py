"""One gate per network namespace, by a lock on a file in a folder that only root can write to.

The lock belongs to the process (fcntl(2), F_SETLK): it ends with the process, and its forks do not have it.
"""

import fcntl
import os
from pathlib import Path

from wily_sluice.errors import LiveError

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

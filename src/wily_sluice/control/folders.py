"""The folders of a gate: that of its sockets, and that of its state."""

import fcntl
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.process import RUN, network_namespace
from wily_sluice.history.database import private_folder

CONTROL, WATCH = "control.sock", "watch.sock"


def runtime_folder() -> Path:
    """The folder of the gate in the network namespace that this process is in."""
    return RUN / f"net-{network_namespace()}"


PATIENCE = 3.0  # seconds: what belonged to a killed gate ends soon, and may have the folder open until then


@contextmanager
def occupied(state: Path) -> Iterator[None]:
    """Hold the folder while the context lasts. LiveError when another gate has it.

    A folder that cannot be made or opened is not held; writing to it will fail later.
    """
    folder = -1
    with suppress(OSError):
        private_folder(state)
        folder = os.open(state, os.O_RDONLY | os.O_DIRECTORY)
    try:
        if folder >= 0:
            _wait_for(folder, state)
        yield
    finally:
        if folder >= 0:
            os.close(folder)


def _wait_for(folder: int, state: Path) -> None:
    deadline = time.monotonic() + PATIENCE
    while True:
        try:
            fcntl.flock(folder, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return
        except BlockingIOError:
            if time.monotonic() >= deadline:
                problem = f"another gate, here or in another network namespace, already keeps its history in {state}"
                raise LiveError(f"{problem}: stop it, or give this one its own folder with --state") from None
            time.sleep(0.1)

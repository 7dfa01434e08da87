"""The folder of the gate's sockets, one for each network namespace."""

from pathlib import Path

from wily_sluice.gate.kernel.lock import RUN, network_namespace

CONTROL, WATCH = "control.sock", "watch.sock"


def runtime_folder() -> Path:
    """The folder of the gate in the network namespace that this process is in."""
    return RUN / f"net-{network_namespace()}"

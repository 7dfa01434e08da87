"""Runs the operating system's own commands (`ip`, `iptables`), and turns their failures into messages."""

import shutil
import subprocess
import sys
from collections.abc import Sequence

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

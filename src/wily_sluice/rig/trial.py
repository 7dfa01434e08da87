"""A short trial of a plan on a rig, with the kernel's own TCP: the forecast compared with reality.

A call during eight saturating uploads, first without the gate and then with it; and, with it, two hosts under one
limiter with unlimited downloads. The rig is taken down on every exit.
"""

import json
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from subprocess import PIPE
from typing import Any

import numpy as np

from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.process import PYTHON
from wily_sluice.plan.model import Plan
from wily_sluice.rig.layout import Layout, LineFigures
from wily_sluice.rig.rig import Rig
from wily_sluice.units import MILLISECOND, Nanoseconds, Rate

DELAY: Nanoseconds = 9 * MILLISECOND
BUFFER: Nanoseconds = 300 * MILLISECOND
FLOWS = 8
SECONDS = 8.0
WARMUP = 2.0
PATIENCE = 10.0  # seconds


@dataclass(frozen=True, slots=True)
class Host:
    """A host of the plan: its network, and its address."""

    network: str
    address: str


@dataclass(frozen=True, slots=True)
class CallResult:
    """A call's delays one way in ns, and the part of its packets that was lost."""

    up: tuple[int, ...]
    down: tuple[int, ...]
    loss: float

    def percentile(self, way: str, percent: float) -> float:
        """In ns; infinite when nothing arrived."""
        delays = self.up if way == "up" else self.down
        return float(np.percentile(delays, percent)) if delays else float("inf")


@dataclass(frozen=True, slots=True)
class CallTrial:
    """Both calls; goodput in bit/s of all uploads together, before and after, and of each limited host."""

    call_before: CallResult
    call_after: CallResult
    uploads_before: float
    uploads_after: float
    limited: dict[str, float]


@contextmanager
def built(plan: Plan, name: str, delay: Nanoseconds = DELAY, rate: Rate | None = None) -> Iterator[Rig]:
    """A rig while the context lasts. Its lines have this rate, or the rates of the plan's uplinks, and this one-way
    delay.
    """
    rig = Rig(name)
    rig.down()
    lines = {u.name: LineFigures(rate or u.down, rate or u.up, delay, BUFFER, u.framing) for u in plan.uplinks}
    rig.up(Layout(plan, name, hosts=8), lines)
    try:
        yield rig
    finally:
        rig.down()


@contextmanager
def gate_running(rig: Rig, plan_file: Path) -> Iterator["subprocess.Popen[str]"]:
    """A gate in the rig's gateway while the context lasts, as a person runs it. LiveError when it does not start."""
    _jump(rig, "-D")  # what a killed gate left would be taken for this one's
    command = [*PYTHON, "wily_sluice", "gate", "run", "--json", "--plan", str(plan_file)]
    gate = subprocess.Popen(
        rig.command("gateway", command),
        stdout=PIPE,
        stderr=PIPE,
        text=True,
        start_new_session=True,
    )
    try:
        deadline = time.monotonic() + PATIENCE
        while not _jump(rig, "-C"):
            if gate.poll() is not None or time.monotonic() > deadline:
                gate.kill()
                raise LiveError(f"the gate did not start: {gate.communicate()[1].strip()}")
            time.sleep(0.05)
        yield gate
    finally:
        if gate.poll() is None:
            gate.send_signal(signal.SIGTERM)
        gate.communicate(timeout=PATIENCE)


def _jump(rig: Rig, word: str) -> bool:
    """Check (`-C`) or delete (`-D`) the jump of IPv6, which a gate inserts last."""
    command = rig.command("gateway", ["ip6tables", "-w", "-t", "mangle", word, "FORWARD", "-j", "SLUICE"])
    return subprocess.run(command, capture_output=True, check=False).returncode == 0


def start_endpoint(rig: Rig, host: Host, role: str, *arguments: object) -> "subprocess.Popen[str]":
    """Start traffic from a host to the far end; `finish` waits for its result."""
    remote = rig.far_addresses[":" in host.address]
    command = rig.program(host.network, "endpoint", role, *arguments, "--local", host.address, "--remote", remote)
    return subprocess.Popen(command, stdout=PIPE, stderr=PIPE, text=True)


def finish(endpoint: "subprocess.Popen[str]") -> dict[str, Any]:
    """An endpoint's result. LiveError if it failed."""
    output, errors = endpoint.communicate()
    if endpoint.returncode:
        raise LiveError(
            f"traffic in the rig failed: {errors.strip().splitlines()[-1] if errors else endpoint.returncode}"
        )
    figures: dict[str, Any] = json.loads(output)
    return figures


def call_result(figures: dict[str, Any]) -> CallResult:
    """A call's delays, from its endpoint's result."""
    return CallResult(tuple(figures["up"]), tuple(figures["down"]), figures["lost"] / figures["sent"])


def _phase(
    rig: Rig, caller: Host, worker: Host, limited: tuple[Host, ...] = ()
) -> tuple[CallResult, float, dict[str, float]]:
    span = ("--seconds", SECONDS, "--warmup", WARMUP)
    uploads = start_endpoint(rig, worker, "load", "up", "--flows", FLOWS, *span)
    downloads = {host.address: start_endpoint(rig, host, "load", "down", "--flows", 2, *span) for host in limited}
    time.sleep(WARMUP)
    call = start_endpoint(rig, caller, "call", "--seconds", SECONDS - 1)
    goodput = {address: float(finish(endpoint)["goodput"]) for address, endpoint in downloads.items()}
    return call_result(finish(call)), float(finish(uploads)["goodput"]), goodput


def live_trial(
    plan: Plan, plan_file: Path, caller: Host, worker: Host, limited: tuple[Host, ...], tell: Callable[[str], None]
) -> CallTrial:
    """Build, run both phases, take down. `tell` is given a line at each step. LiveError when it cannot be done."""
    tell("building the site from network namespaces …")
    with built(plan, "demo") as rig:
        tell(f"without the gate: {FLOWS} uploads and a call …")
        call_before, uploads_before, _ = _phase(rig, caller, worker)
        tell(f"with the gate: the same, and {len(limited)} phones downloading …")
        with gate_running(rig, plan_file):
            call_after, uploads_after, goodput = _phase(rig, caller, worker, limited)
    return CallTrial(call_before, call_after, uploads_before, uploads_after, goodput)

"""The cost of shaping on this machine, measured in a temporary rig: packets a second through the gate with a plan.

For comparison, the same path without a gate, and through an equal loop that accepts every packet at once. The plan's
rates are lifted, so that only its rules, limiters and queues cost time.
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

from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.process import run
from wily_sluice.plan.model import Plan
from wily_sluice.rig.flood_program import CONVERSATIONS, FIRST_PORT
from wily_sluice.rig.layout import Layout
from wily_sluice.rig.rig import Rig
from wily_sluice.units import BYTE_TIME, DIRECTIONS, SECOND, Size

FULL: tuple[Size, ...] = (1500,)
# What hosts of a small site send: full packets, acknowledgements and voice, and something between.
MIX: tuple[Size, ...] = (1500, 1500, 1500, 1500, 1500, 1500, 600, 214, 90, 60, 60, 60)
WARM_UP, MEASURED = 1.0, 3.0  # seconds
PATIENCE = 15.0
SENDERS = 2


@dataclass(frozen=True, slots=True)
class Carried:
    """Packets a second of some sizes: without a gate; through the loop that does nothing, and through the gate.

    The latter are what one core carries: packets over the time that the process worked for them.
    """

    sizes: tuple[Size, ...]
    free: float
    bare: float
    gate: float

    @property
    def mean(self) -> float:
        """The mean packet, in bytes."""
        return sum(self.sizes) / len(self.sizes)

    @property
    def rate(self) -> float:
        """Bit/s of packets through the gate."""
        return self.gate * self.mean * 8


@dataclass(frozen=True, slots=True)
class Cost:
    """For full packets and for a mix of sizes. `stolen` is the part of the processor time that the host took."""

    full: Carried
    mix: Carried
    stolen: float


def needed(plan: Plan, sizes: tuple[Size, ...]) -> float:
    """Packets a second when all lines of a plan are full of packets of these sizes, in both directions."""
    return sum(
        uplink.usable(direction) * SECOND / (BYTE_TIME * sum(map(uplink.framing.cost, sizes)) / len(sizes))
        for uplink in plan.uplinks
        for direction in DIRECTIONS
    )


def measure(plan: Plan, plan_file: Path, tell: Callable[[str], None]) -> Cost:
    """Build the rig, measure, take it down. LiveError when it cannot be."""
    if not any(":" not in subnet for network in plan.networks for subnet in network.subnets):
        raise LiveError("the measurement needs a network with a subnet of IPv4")
    rig = Rig("cost")
    rig.down()
    layout = Layout(plan, "cost", hosts=4)
    tell("building a path of network namespaces …")
    rig.up(layout, {})
    try:
        ports = f"{FIRST_PORT}:{FIRST_PORT + CONVERSATIONS}"
        run(rig.command("far", ["iptables", "-w", "-A", "INPUT", "-p", "udp", "--dport", ports, "-j", "DROP"]))
        before = _processor_time()
        full = _carried(rig, layout, plan_file, "full", FULL, tell)
        mix = _carried(rig, layout, plan_file, "mixed", MIX, tell)
        stolen, whole = (now - then for now, then in zip(_processor_time(), before, strict=True))
        return Cost(full, mix, stolen / whole if whole else 0.0)
    finally:
        rig.down()


def _processor_time() -> tuple[int, int]:
    """The processor time that a host has taken away, and the total, in ticks (proc(5))."""
    fields = list(map(int, Path("/proc/stat").read_text().split("\n", 1)[0].split()[1:9]))
    return fields[7], sum(fields)


def _carried(
    rig: Rig, layout: Layout, plan_file: Path, name: str, sizes: tuple[Size, ...], tell: Callable[[str], None]
) -> Carried:
    tell(f"{name} packets, without a gate …")
    free = _far_packets(rig, layout, sizes)
    tell(f"{name} packets, each accepted …")
    with program_running(rig, "bare", plan_file) as bare:
        at_once = packets_through(rig, layout, sizes, bare)
    tell(f"{name} packets, through the gate …")
    with program_running(rig, "gate", plan_file) as gate:
        shaped = packets_through(rig, layout, sizes, gate)
    return Carried(sizes, free, at_once, shaped)


@contextmanager
def _flood(rig: Rig, layout: Layout, sizes: tuple[Size, ...]) -> Iterator[None]:
    """Send from one host of the first network while the context lasts."""
    network = next(n for n in layout.plan.networks if any(":" not in subnet for subnet in n.subnets))
    local = next(address for address in layout.host_addresses(network) if ":" not in address).partition("/")[0]
    seconds = WARM_UP + MEASURED + 1
    command = rig.program(network.name, "flood_program", local, layout.far_addresses[0], seconds, *sizes)
    # One alone may send less than can be carried.
    senders = [subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=PIPE, text=True) for _ in range(SENDERS)]
    try:
        time.sleep(WARM_UP)
        yield
    finally:
        for sender in senders:
            sender.terminate()
        for sender in senders:
            sender.communicate(timeout=PATIENCE)


def _far_packets(rig: Rig, layout: Layout, sizes: tuple[Size, ...]) -> float:
    """Packets a second that arrive."""

    def arrived() -> int:
        lines = run(rig.command("far", ["cat", "/proc/net/dev"])).stdout.splitlines()
        return sum(int(line.split(":")[1].split()[1]) for line in lines if line.strip().startswith("line"))

    with _flood(rig, layout, sizes):
        before, begun = arrived(), time.monotonic()
        time.sleep(MEASURED)
        return (arrived() - before) / (time.monotonic() - begun)


@contextmanager
def program_running(rig: Rig, what: str, plan_file: Path) -> Iterator["subprocess.Popen[str]"]:
    """The gate without its rates (`gate`), or the loop that accepts every packet (`bare`), in the gateway."""
    command = rig.program("gateway", "cost_program", what, plan_file.absolute())
    program = subprocess.Popen(command, stdout=PIPE, stderr=PIPE, text=True, start_new_session=True)
    try:
        assert program.stdout is not None
        if not program.stdout.readline():
            raise LiveError(f"it did not start: {program.communicate()[1].strip()}")
        yield program
    finally:
        if program.poll() is None:
            program.send_signal(signal.SIGINT)
        try:
            program.communicate(timeout=PATIENCE)
        except subprocess.TimeoutExpired:
            program.kill()
            program.communicate()


def packets_through(rig: Rig, layout: Layout, sizes: tuple[Size, ...], program: "subprocess.Popen[str]") -> float:
    """Packets released per second of working time."""
    assert program.stdout is not None
    with _flood(rig, layout, sizes):
        packets = seconds = worked = 0.0
        program.stdout.readline()  # begun before
        while seconds < MEASURED - 0.5:
            report = json.loads(program.stdout.readline())
            packets += report["packets"]
            seconds += report["seconds"]
            worked += report["worked"]
    return packets / worked if worked else 0.0

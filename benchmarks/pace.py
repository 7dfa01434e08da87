"""How fast the gate is on this machine: `sudo python -m benchmarks.pace`, from the project's folder.

The packets that one core carries through the gate, beside a loop of the same kind that lets everything go at once; and
how much of a line of 1 Gbit/s large offloaded packets of one TCP connection fill. Beside each figure stands
the part of the time in which the machine itself stood still; those of packets are medians of seven measurements. Put
`PYTHONPATH=build/compiled` before it for the compiled gate.
"""

import os
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from statistics import median

from tests.gate.stillness import stood_still_during
from wily_sluice import examples
from wily_sluice.engine.queueing import tree
from wily_sluice.gate.kernel.process import run
from wily_sluice.outside.files import load
from wily_sluice.plan.model import Plan
from wily_sluice.rig.cost import FULL, MIX, packets_through, program_running
from wily_sluice.rig.flood_program import CONVERSATIONS, FIRST_PORT
from wily_sluice.rig.layout import Layout
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host, finish, gate_running, start_endpoint
from wily_sluice.units import Size

TIMES = 7
SMALL: tuple[Size, ...] = (100,)
PLAN = """\
site: Small
uplinks:
  line: {interface: wan0, down: 1 Gbit/s, up: 1 Gbit/s, headroom: 0%}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24]}
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 1}
      rest: {default: true}
limiters:
  each: {local: house, per: host, down: 2 Gbit/s, up: 2 Gbit/s}
rules:
  - {name: Calls, protocol: udp, port: 5004-5005, queue: calls}
"""


@contextmanager
def path(plan: Plan) -> Iterator[tuple[Rig, Layout]]:
    """A rig without lines, in which what the flood sends is not answered."""
    rig, layout = Rig("pace"), Layout(plan, "pace", hosts=4)
    rig.down()
    rig.up(layout, {})
    try:
        ports = f"{FIRST_PORT}:{FIRST_PORT + CONVERSATIONS}"
        run(rig.command("far", ["iptables", "-w", "-A", "INPUT", "-p", "udp", "--dport", ports, "-j", "DROP"]))
        yield rig, layout
    finally:
        rig.down()


def packets(name: str, plan_file: Path, sizes: tuple[Size, ...]) -> None:
    with path(load(plan_file)) as (rig, layout):

        def measured() -> tuple[float, ...]:
            carried = []
            for what in ("bare", "gate"):
                with program_running(rig, what, plan_file) as program:
                    carried.append(packets_through(rig, layout, sizes, program))
            return tuple(carried)

        found = []
        for _ in range(TIMES):
            (bare, gate), still = stood_still_during(measured)
            found.append((bare, gate, gate / bare, still))
        # A machine's own pace changes from second to second, and so single ratios do.
        bare, gate, ratio, still = (median(column) for column in zip(*found, strict=True))
        least, most = min(one[2] for one in found), max(one[2] for one in found)
        rates = f"{bare:>9,.0f}/s {gate:>9,.0f}/s"
        print(f"{name:<40} {rates} {ratio:>7.2f} {f'{least:.2f}-{most:.2f}':>11} {still:>8.2%}", flush=True)


def offloaded(plan_file: Path) -> None:
    host = Host("house", "10.7.0.100")
    with path(load(plan_file)) as (rig, _), gate_running(rig, plan_file) as gate:

        def measured(direction: str) -> tuple[float, float]:
            before, begun = worked(gate.pid), time.monotonic()
            load_ = start_endpoint(rig, host, "load", direction, "--flows", 1, "--seconds", 6, "--warmup", 2)
            goodput = finish(load_)["goodput"]
            return goodput, (worked(gate.pid) - before) / (time.monotonic() - begun)

        for direction in ("up", "down"):
            for _ in range(3):
                (goodput, share), still = stood_still_during(lambda way=direction: measured(way))
                name = f"1 Gbit/s {direction}, offloaded"
                print(
                    f"{name:<40} {goodput / 1e6:>7.0f} Mbit/s of data, {share:.0%} of a core {still:>7.2%}", flush=True
                )


def worked(process: int) -> float:
    """Seconds of a processor that a process has used (proc(5))."""
    fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


if __name__ == "__main__":
    print("compiled" if tree.__file__.endswith(".so") else "not compiled")
    with tempfile.TemporaryDirectory() as folder:
        small = Path(folder) / "sluice.yaml"
        small.write_text(PLAN)
        print(f"{'':<40} {'let go':>11} {'gate':>11} {'ratio':>7} {'least-most':>11} {'stood still':>8}")
        packets("a small plan, packets of 100 bytes", small, SMALL)
        demo = examples.folder() / examples.PLAN
        packets("the demo's plan, packets of 1500 bytes", demo, FULL)
        packets("the demo's plan, its mix", demo, MIX)
        offloaded(small)

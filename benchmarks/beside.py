"""What a packet of TCP costs in this gate beside another build of it: `sudo python -m benchmarks.beside OTHER_PYTHON`.

Run it from the project's folder by the interpreter of one environment with the program, and name that of another. The
gates take turns in the same rig, with rates that hold nothing back, while real connections fill the path both ways; a
figure is the packets that a core carries. The ratio is the median over pairs of neighbouring turns.
"""

import json
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from statistics import median
from subprocess import PIPE

from benchmarks.pace import PLAN, path
from tests.gate.stillness import stood_still_during
from wily_sluice.gate.kernel.command import run
from wily_sluice.outside.files import load
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host, finish, start_endpoint

PAIRS = 9
SECONDS = 6
HOST = Host("house", "10.7.0.100")


@contextmanager
def gate(rig: Rig, python: str, plan_file: Path) -> Iterator["subprocess.Popen[str]"]:
    command = rig.command("gateway", [python, "-P", "-m", "wily_sluice.rig.cost_program", "gate", str(plan_file)])
    program = subprocess.Popen(command, stdout=PIPE, text=True, start_new_session=True)
    try:
        assert program.stdout is not None
        if not program.stdout.readline():
            raise SystemExit(f"the gate of {python} did not start")
        yield program
    finally:
        program.terminate()
        program.communicate(timeout=15)


def carried(rig: Rig, python: str, plan_file: Path) -> float:
    """Packets a second of its processor's time."""
    with gate(rig, python, plan_file) as program:
        loads = [
            start_endpoint(rig, HOST, "load", way, "--flows", 4, "--seconds", SECONDS, "--warmup", 1)
            for way in ("down", "up")
        ]
        assert program.stdout is not None
        program.stdout.readline()  # begun before
        program.stdout.readline()
        told = [json.loads(program.stdout.readline()) for _ in range(SECONDS - 2)]
        for one in loads:
            finish(one)
    return sum(one["packets"] for one in told) / sum(one["worked"] for one in told)


def main(other: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        plan_file = Path(folder) / "sluice.yaml"
        plan_file.write_text(PLAN)
        with path(load(plan_file)) as (rig, _):
            for node in rig.nodes():  # packets as they are on a line, not in lumps
                for name in json.loads(run(rig.command(node, ["ip", "-j", "link"])).stdout):
                    run(rig.command(node, ["ip", "link", "set", name["ifname"], "gso_max_segs", "1"]))
            ratios = []
            for number in range(PAIRS):
                turns = (other, sys.executable) if number % 2 else (sys.executable, other)
                found, still = stood_still_during(
                    lambda turns=turns: {one: carried(rig, one, plan_file) for one in turns}
                )
                ratios.append(found[sys.executable] / found[other])
                print(
                    f"{found[other]:>9,.0f}/s {found[sys.executable]:>9,.0f}/s {ratios[-1]:.3f} {still:.2%}", flush=True
                )
            print(f"this gate beside the other: {median(ratios):.3f} ({min(ratios):.3f} to {max(ratios):.3f})")


if __name__ == "__main__":
    main(*sys.argv[1:])

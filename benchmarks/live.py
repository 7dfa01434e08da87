"""What the gate does to real packets on this machine: `sudo python -m benchmarks.live`, from the project's folder.

Each figure is measured three times between namespaces, with the kernel's own TCP, at a usable rate of 20 Mbit/s each
way on a line of 25 whose buffers are 300 ms deep. Beside each stands the part of the time in which the machine
itself stood still, as a shared one may.
"""

import tempfile
from collections.abc import Callable
from pathlib import Path

from tests.gate.stillness import stood_still_during
from tests.gate.test_live import CALLER, DELAY, GUESTS, MOST, PLAN, WORKER, added, call_beside_uploads, goodput
from wily_sluice.engine.packet import ETHERNET
from wily_sluice.forecast.lab.kinds.tcp import SEGMENT
from wily_sluice.outside.files import load
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import built, gate_running

TIMES = 3


def table(title: str, measure: Callable[[], str]) -> None:
    for _ in range(TIMES):
        text, still = stood_still_during(measure)
        print(f"{title:<44} {text:<34} {still:.2%}", flush=True)


def figures(rig: Rig, plan_file: Path) -> None:
    most = MOST[WORKER.address]
    print(f"{'':<44} {'':<34} stood still")

    def call() -> str:
        result = call_beside_uploads(rig)
        return f"p50 {added(result.up, 50):.2f} ms, p99 {added(result.up, 99):.2f} ms"

    def of_limit(direction: str) -> str:
        rates = (got * ETHERNET.cost(1500) / SEGMENT / 4e6 for got in goodput(rig, direction, *GUESTS))
        return ", ".join(f"{rate:.2%}" for rate in rates)

    table(f"no gate: call of {CALLER.network} beside 8 uploads adds", call)
    with gate_running(rig, plan_file):
        table("gate: the same call adds", call)
        for direction in ("up", "down"):
            table(f"goodput {direction}, of what fits", lambda d=direction: f"{goodput(rig, d, WORKER)[0] / most:.2%}")
            table(f"two hosts {direction}, of their 4 Mbit/s", lambda d=direction: of_limit(d))


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "sluice.yaml"
        file.write_text(PLAN)
        with built(load(file), "bench", DELAY) as rig:
            figures(rig, file)

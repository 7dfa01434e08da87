"""How long a call is silent when its line fails: what the lab forecasts, and what happens on real packets.

sudo build/shipped/bin/python -m benchmarks.failover [RUNS]
"""

import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import mean

from wily_sluice.forecast.lab.run import Lab
from wily_sluice.outside.files import load, load_traffic
from wily_sluice.plan.model import Plan
from wily_sluice.rig.trial import Host, built, finish, gate_running, start_endpoint
from wily_sluice.units import MILLISECOND, SECOND

PLAN = """\
site: Two lines
uplinks:
  fibre: {interface: wan0, down: 20 Mbit/s, up: 20 Mbit/s, probe: %s}
  mobile: {interface: wan1, down: 10 Mbit/s, up: 10 Mbit/s}
networks: {house: {interface: lan0, subnets: [10.7.0.0/24]}}
trees: {main: {queues: {calls: {priority: 1, guarantee: 20%%}, rest: {default: true}}}}
routes: [{uplink: fibre, else: mobile}]
"""
TRAFFIC = """\
duration: 16 s
seed: %d
lines: {fibre: {delay: 10 ms, fails: {at: 4 s, silent: %s}}, mobile: {delay: 10 ms}}
applications: [{name: Call, kind: call, local: 10.7.0.100, remote: 198.51.100.10, port: 7000}]
"""
USUAL = "[198.51.100.10]"
QUICK = "{remotes: [198.51.100.10], within: 500 ms, lost: 2}"
CUTS = {
    "link": ["ip", "link", "set", "near", "down"],
    "silent": ["iptables", "-I", "FORWARD", "-j", "DROP"],
}
CASES = (("link", USUAL), ("silent", USUAL), ("silent", QUICK))


def forecast(folder: Path, plan: Plan, kind: str, seed: int) -> float:
    """Seconds, of the direction that is silent for longer."""
    file = folder / "traffic.yaml"
    file.write_text(TRAFFIC % (seed, str(kind == "silent").lower()))
    return max(Lab(plan, load_traffic(file, plan), shaped=True).run().silences.values()) / SECOND


def real(folder: Path, plan: Plan, file: Path, kind: str, wait: float) -> float:
    """Seconds without an answer in a call whose line is cut `wait` seconds later than usual."""
    with built(plan, "failover", 10 * MILLISECOND) as rig, gate_running(rig, file):
        call = start_endpoint(rig, Host("house", "10.7.0.100"), "call", "--seconds", 12)
        time.sleep(3 + wait)
        subprocess.run(rig.command("line-fibre", CUTS[kind]), check=True)
        return float(finish(call)["silent"]) / SECOND


def main() -> None:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 8
    print("| the line | `probe` | forecast | real |\n|---|---|---|---|")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        file = folder / "sluice.yaml"
        for kind, probe in CASES:
            file.write_text(PLAN % probe)
            plan = load(file)
            found = (
                [forecast(folder, plan, kind, seed) for seed in range(4 * runs)],
                [real(folder, plan, file, kind, run / runs) for run in range(runs)],
            )
            cells = (f"{mean(times):.1f} s ({min(times):.1f} to {max(times):.1f})" for times in found)
            said = {"link": "loses its link", "silent": "is silent"}[kind]
            print(f"| {said} | `{probe}` | {' | '.join(cells)} |", flush=True)


if __name__ == "__main__":
    main()

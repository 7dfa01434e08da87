"""What the lab forecasts beside what the kernel's TCP does on the same lines: `python -m benchmarks.truth [SITE…]`.

`--runs N` does each so many times, and half as often with the plan, and compares the means: who gives way first at a
full buffer is chance, on a real line as in the lab.

Needs root. Sites of different rates, buffers, round trips and jitter, each without the plan and with it: a call, two
uploads, four downloads, and two more of a guest under a limiter, in four queues. Prints a table, the worst first, as
docs/truth.md has it. A goodput agrees within 10% or 0.1 Mbit/s, a delay of the call within 20% or 2 ms.
"""

import argparse
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from benchmarks.floods import stolen
from wily_sluice.forecast.lab.flows import Outcome
from wily_sluice.outside.files import load, load_traffic
from wily_sluice.outside.lab import compare
from wily_sluice.plan.model import Plan
from wily_sluice.rig.layout import Layout, LineFigures
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host, finish, gate_running, start_endpoint
from wily_sluice.units import MILLISECOND

SECONDS, WARMUP = 60, 6
MOST_STOLEN, TRIES = 0.03, 4  # of a core, by the machine's host; how often it is measured anew for that


class Site(NamedTuple):
    """A line: Mbit/s down and up, ms of buffer, ms there and back, ms of jitter on average in each direction. If it
    `varies`, the plan gives half and twice the rates as bounds, between which the gate has to find them.
    """

    down: float
    up: float
    buffer: int
    round_trip: int
    jitter: float = 0.0
    varies: bool = False

    def rate(self, way: str) -> str:
        """As the plan has it."""
        rate = self.down if way == "down" else self.up
        return f"{rate / 2} to {rate * 2} Mbit/s" if self.varies else f"{rate} Mbit/s"


SITES = {
    "village": Site(5.0, 1.0, 800, 60),
    "branch": Site(16.0, 2.0, 300, 120),
    "shop": Site(50.0, 10.0, 200, 20),
    "practice": Site(180.0, 24.0, 300, 18),
    "shallow": Site(100.0, 20.0, 20, 40),
    "office": Site(500.0, 100.0, 80, 10),
    "radio": Site(30.0, 6.0, 300, 40, jitter=3.0),
    "mobile": Site(20.0, 8.0, 300, 50, jitter=2.0, varies=True),
}
PLAN = """\
site: {name}
uplinks:
  line: {{interface: wan0, down: {down}, up: {up}, headroom: 8%, probe: [198.51.100.10]}}
networks:
  house: {{interface: lan0, subnets: [10.7.0.0/24]}}
  guests: {{interface: lan1, subnets: [10.7.1.0/24]}}
trees:
  main:
    queues:
      calls: {{guarantee: 20%, priority: 1, cap: 50%}}
      work: {{guarantee: 30%}}
      guests: {{guarantee: 5%, cap: 40%}}
      rest: {{guarantee: 10%, default: true}}
limiters:
  guest: {{local: guests, per: host, down: {guest} Mbit/s}}
rules:
  - {{name: Call, local: 10.7.0.101, queue: calls}}
  - {{name: Work, local: 10.7.0.100, queue: work}}
  - {{name: Guests, local: guests, queue: guests}}
"""
TRAFFIC = """\
duration: {whole} s
warmup: {warmup} s
lines: {{line: {{down: {down} Mbit/s, up: {up} Mbit/s, delay: {delay} ms, buffer: {buffer} ms, jitter: {jitter} ms}}}}
applications:
  - {{name: Call, kind: call, local: 10.7.0.101, remote: 203.0.113.9, port: 7000}}
  - {{name: Uploads, kind: upload, flows: 2, local: 10.7.0.100, remote: 203.0.113.9}}
  - {{name: Downloads, kind: download, flows: 4, local: 10.7.0.102, remote: 203.0.113.9}}
  - {{name: Guest, kind: download, flows: 2, local: 10.7.1.100, remote: 203.0.113.9}}
"""
LOADS = (
    ("Uploads", "up", Host("house", "10.7.0.100"), 2),
    ("Downloads", "down", Host("house", "10.7.0.102"), 4),
    ("Guest", "down", Host("guests", "10.7.1.100"), 2),
)
CALLER = Host("house", "10.7.0.101")


Figures = NDArray[np.float64]
Named = dict[str, float]


def _error(figures: Figures) -> float:
    """The standard error of their mean."""
    return float(figures.std(ddof=1) / len(figures) ** 0.5) if len(figures) > 1 else 0.0


@dataclass(frozen=True, slots=True)
class Pair:
    """One figure, of each run: as forecast, and as it was. Mbit/s, or ms."""

    site: str
    phase: str
    what: str
    forecasts: Figures
    reals: Figures

    @property
    def forecast(self) -> float:
        """The mean of all runs."""
        return float(self.forecasts.mean())

    @property
    def real(self) -> float:
        """The mean of all runs."""
        return float(self.reals.mean())

    @property
    def row(self) -> str:
        """It as a row of the table: means, each with its standard error."""
        told = " | ".join(f"{one.mean():.2f} ± {_error(one):.2f}" for one in (self.forecasts, self.reals))
        return f"| {self.site} | {self.phase} | {self.what} | {told} | {self.apart:.0%} |"

    @property
    def apart(self) -> float:
        """By how much of what is allowed they differ: above 1, they do not agree."""
        share, least = (0.1, 0.1) if "goodput" in self.what else (0.2, 2.0)
        return abs(self.forecast - self.real) / max(share * self.real, least)


def of_lab(rows: tuple[Outcome, ...]) -> Named:
    """What the lab says, by the names of figures."""
    found: Named = {}
    for row in rows:
        if row.kind == "call":
            for percent, value in ((50, row.measured.p50), (95, row.measured.p95)):
                found[f"call {row.way}, p{percent}"] = (value or 0) / MILLISECOND
        else:
            found[f"{row.name.lower()}, goodput"] = row.measured.goodput / 1e6
    return found


def of_rig(rig: Rig) -> Named:
    """The same, with real packets."""
    span = ("--seconds", SECONDS, "--warmup", WARMUP)
    loads = {name: start_endpoint(rig, host, "load", way, "--flows", flows, *span) for name, way, host, flows in LOADS}
    time.sleep(WARMUP)
    call = finish(start_endpoint(rig, CALLER, "call", "--seconds", SECONDS))
    found = {f"{name.lower()}, goodput": finish(load_)["goodput"] / 1e6 for name, load_ in loads.items()}
    for way in ("up", "down"):
        for percent in (50, 95):
            found[f"call {way}, p{percent}"] = float(np.percentile(call[way], percent)) / MILLISECOND
    return found


def undisturbed(rig: Rig) -> Named:
    """The same, measured again while the machine's host takes away what the gate needs."""
    for _ in range(TRIES):
        begun, taken = time.monotonic(), stolen()
        found = of_rig(rig)
        part = (stolen() - taken) / (time.monotonic() - begun)
        if part <= MOST_STOLEN:
            break
        print(f"{rig.name}: {part:.2f} of a core stolen", file=sys.stderr)
    return found


@contextmanager
def standing(plan: Plan, site: Site) -> Iterator[Rig]:
    """A rig with this line, which may stand beside those of other sites."""
    rig = Rig(plan.site)
    rig.down()
    figures = LineFigures(
        round(site.down * 1e6),
        round(site.up * 1e6),
        site.round_trip * MILLISECOND // 2,
        site.buffer * MILLISECOND,
        plan.uplinks[0].framing,
        jitter=round(site.jitter * MILLISECOND),
    )
    rig.up(Layout(plan, plan.site, hosts=8), {"line": figures})
    try:
        yield rig
    finally:
        rig.down()


def site(name: str, folder: Path, runs: int) -> list[Pair]:
    """All figures of one site."""
    line = SITES[name]
    file, traffic = folder / "plan.yaml", folder / "traffic.yaml"
    file.write_text(PLAN.format(name=name, down=line.rate("down"), up=line.rate("up"), guest=round(line.down / 4, 2)))
    whole = SECONDS + WARMUP
    traffic.write_text(
        TRAFFIC.format(
            whole=whole,
            warmup=WARMUP,
            down=line.down,
            up=line.up,
            delay=line.round_trip / 2,
            buffer=line.buffer,
            jitter=line.jitter,
        )
    )
    plan = load(file)
    planned = load_traffic(traffic, plan)
    forecasts = [compare(plan, replace(planned, seed=planned.seed + run)) for run in range(runs)]
    with standing(plan, line) as rig:
        without = [undisturbed(rig) for _ in range(runs)]
        with gate_running(rig, file):
            with_ = [undisturbed(rig) for _ in range((runs + 1) // 2)]
    before = [of_lab(forecast.before) for forecast in forecasts]
    after = [of_lab(forecast.after) for forecast in forecasts]
    return [
        Pair(name, phase, what, *(np.array([run[what] for run in side]) for side in (said, real)))
        for phase, said, real in (("without", before, without), ("with", after, with_))
        for what in real[0]
    ]


def main(arguments: list[str]) -> None:
    """Measure, and print the table."""
    parser = argparse.ArgumentParser(prog="truth")
    parser.add_argument("sites", nargs="*", default=list(SITES), metavar="SITE")
    parser.add_argument("--runs", type=int, default=4)
    options = parser.parse_args(arguments)
    pairs: list[Pair] = []
    for name in options.sites:
        with tempfile.TemporaryDirectory() as folder:
            pairs += site(name, Path(folder), options.runs)
    print("| site | plan | figure | forecast | real | of what may be |")
    print("|---|---|---|---|---|---|")
    for pair in sorted(pairs, key=lambda pair: -pair.apart):
        print(pair.row)
    agree = sum(pair.apart <= 1 for pair in pairs)
    print(f"\n{agree} of {len(pairs)} agree.")


if __name__ == "__main__":
    main(sys.argv[1:])

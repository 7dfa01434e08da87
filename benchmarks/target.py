"""What CoDel's target on slow queues costs: `python -m benchmarks.target`, in simulated time.

One download, and four, over slow lines. There the target of 5 ms is less than the time that one frame takes, so it has
to grow with the frame. For targets of half a frame to four, it prints what part of the line's goodput the downloads
reach, and how many frames' time their packets wait at the 50th and the 95th percentile: medians over five path delays.
"""

import tempfile
from pathlib import Path

import numpy as np

from wily_sluice.engine.queueing.codel import TARGET
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.lab.run import Lab
from wily_sluice.outside.files import load, load_traffic
from wily_sluice.plan import build
from wily_sluice.units import MILLISECOND, Nanoseconds, Rate, transmission_time

FRAMES = (0.5, 1.0, 1.5, 2.0, 3.0, 4.0)
KILOBITS = (128, 256, 512, 1000, 2000)
FLOWS = (1, 4)
DELAYS = (8, 9, 10, 11, 12)  # ms, one way
HEADERS, PACKET, FRAME = 52, 1500, 1518  # bytes
PLAN = """\
site: Slow
uplinks:
  line: {{interface: wan0, down: {rate} kbit/s, up: {rate} kbit/s, headroom: 0%, framing: ethernet}}
networks: {{house: {{interface: lan0, subnets: [192.0.2.0/24]}}}}
trees: {{main: {{queues: {{rest: {{default: true, aqm: codel}}}}}}}}
"""
TRAFFIC = """\
duration: 120 s
warmup: 30 s
lines: {{line: {{down: 100 Mbit/s, up: 100 Mbit/s, delay: {delay} ms, buffer: 1 s}}}}
applications:
  - {{name: D, kind: download, flows: {flows}, local: 192.0.2.7, remote: 203.0.113.9, port: 80}}
"""


def tried(rate: int, flows: int, frames: float, delay: int, folder: Path) -> tuple[float, float, float]:
    """The part of the goodput that is reached, and the waits in frames."""

    def target(leaf: QueueSpec, line: Rate, leaves: int) -> Nanoseconds:
        return max(TARGET, round(frames * transmission_time(leaf.largest, leaf.cap)))

    build.leaf_target = target
    plan_file, traffic_file = folder / "plan.yaml", folder / "traffic.yaml"
    plan_file.write_text(PLAN.format(rate=rate))
    traffic_file.write_text(TRAFFIC.format(flows=flows, delay=delay))
    plan = load(plan_file)
    rows = Lab(plan, load_traffic(traffic_file, plan), shaped=True).run().rows
    measured = next(row.measured for row in rows if row.way == "down")
    frame = transmission_time(FRAME, rate * 1000)
    best = rate * 1000 * (PACKET - HEADERS) / FRAME
    waits = [(one - delay * MILLISECOND) / frame for one in (measured.p50, measured.p95)]
    return measured.goodput / best, waits[0], waits[1]


def main() -> None:
    """Print a row for each rate and number of downloads."""
    print("| kbit/s | downloads | " + " | ".join(f"{frames:g} frames" for frames in FRAMES) + " |")
    print("|---|---|" + "---|" * len(FRAMES))
    with tempfile.TemporaryDirectory() as folder:
        for rate in KILOBITS:
            for flows in FLOWS:
                cells = [
                    np.median([tried(rate, flows, frames, delay, Path(folder)) for delay in DELAYS], axis=0)
                    for frames in FRAMES
                ]
                words = " | ".join(f"{part:.0%}, {half:.1f} and {most:.1f}" for part, half, most in cells)
                print(f"| {rate} | {flows} | {words} |", flush=True)


if __name__ == "__main__":
    main()

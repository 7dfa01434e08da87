"""What a limiter that drops leaves of TCP, by its burst: `python -m benchmarks.policed`.

In the lab, one connection and four, at two rates and three round trips, with the congestion control that hosts use by
default. Prints the table of docs/performance.md: the lowest and the highest part of the rate, and the middle.
"""

import tempfile
from concurrent.futures import ProcessPoolExecutor
from itertools import product
from pathlib import Path
from statistics import median

from wily_sluice.forecast.lab.run import Lab
from wily_sluice.outside.files import load, load_traffic

RATIOS = (0.0, 0.1, 0.25, 0.5, 1.0, 2.0, 4.0)  # of the burst, over what the rate is in a round trip
RATES, ROUND_TRIPS = (10, 50), (10, 50, 100)  # Mbit/s, ms
FRAME = 1518  # bytes
PLAN = """\
site: Policed
uplinks: {{line: {{interface: wan0, down: 200 Mbit/s, up: 200 Mbit/s, headroom: 5%}}}}
networks: {{house: {{interface: lan0, subnets: [10.7.0.0/24]}}}}
limiters: {{one: {{local: house, down: {rate} Mbit/s, burst: {burst} B, excess: drop}}}}
trees: {{main: {{queues: {{rest: {{default: true}}}}}}}}
"""
TRAFFIC = """\
duration: 40 s
warmup: 10 s
lines: {{line: {{down: 200 Mbit/s, up: 200 Mbit/s, delay: {delay} ms, buffer: 200 ms}}}}
applications: [{{name: Load, kind: download, flows: {flows}, local: 10.7.0.4, remote: 203.0.113.5}}]
"""


def part(case: tuple[float, int, int, int]) -> float:
    """Which part of the policed rate is carried."""
    ratio, flows, rate, round_trip = case
    burst = max(FRAME, round(ratio * rate * 1e6 / 8 * round_trip / 1000))
    with tempfile.TemporaryDirectory() as folder:
        file, traffic = Path(folder) / "sluice.yaml", Path(folder) / "traffic.yaml"
        file.write_text(PLAN.format(rate=rate, burst=burst))
        traffic.write_text(TRAFFIC.format(flows=flows, delay=round_trip / 2))
        plan = load(file)
        (row,) = Lab(plan, load_traffic(traffic, plan), shaped=True).run().rows
    return row.measured.goodput * FRAME / 1448 / (rate * 1e6)


def main() -> None:
    """Measure and print."""
    with ProcessPoolExecutor(2) as pool:
        for flows in (1, 4):
            for ratio in RATIOS:
                cases = [(ratio, flows, rate, round_trip) for rate, round_trip in product(RATES, ROUND_TRIPS)]
                parts = list(pool.map(part, cases))
                print(f"{flows} | {ratio} | {min(parts):.2f}-{max(parts):.2f} | middle {median(parts):.2f}", flush=True)


if __name__ == "__main__":
    main()

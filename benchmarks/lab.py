"""How fast the lab simulates: `python -m benchmarks.lab [SECONDS]`.

A line of 100/20 Mbit/s, full with 30 connections, and one of 1 Gbit/s with 60, with the plan; without it, so that the
difference is the engine; and the line and events alone. Each is a multiple of real time, on one core.
"""

import sys
import time
from collections.abc import Iterator

from tests.conftest import SMALL_PLAN
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.line import Line
from wily_sluice.engine.packet import LONGEST_FRAME, Packet
from wily_sluice.forecast.lab.events import Events
from wily_sluice.forecast.lab.path import BareLine
from wily_sluice.forecast.lab.run import Lab
from wily_sluice.forecast.lab.traffic import load_traffic
from wily_sluice.outside.machine import form_words
from wily_sluice.plan.file.source import Kept
from wily_sluice.plan.model import Plan
from wily_sluice.plan.read import load
from wily_sluice.units import BYTE_TIME, SECOND, transmission_time


def traffic_text(downloads: int, uploads: int, seconds: float) -> str:
    """A call beside so many connections."""
    kinds = (("Down", "download", downloads), ("Up", "upload", uploads))
    loads = "".join(
        f"  - {{name: {name}, kind: {kind}, flows: {flows}, local: 10.7.0.101, remote: 203.0.113.5}}\n"
        for name, kind, flows in kinds
    )
    call = "  - {name: Call, kind: call, local: 10.7.0.100, remote: 203.0.113.7, port: 5004}\n"
    return f"duration: {seconds} s\napplications:\n{call}{loads}"


def plan_of(down: str, up: str) -> Plan:
    """The small plan, on a line with these rates."""
    text = SMALL_PLAN.replace("down: 20 Mbit/s", f"down: {down}").replace("up: 10 Mbit/s", f"up: {up}")
    return load(Kept("small.yaml", text.encode()))


def alone(rate: int, seconds: float) -> float:
    """Times real time of full packets over a line and nothing else."""
    events = Events()
    line = BareLine(events, Line(rate, 10_000_000, rate * SECOND // BYTE_TIME, lambda _: None))
    conversation = Conversation(bytes(13))
    interval, end = transmission_time(LONGEST_FRAME, rate), round(seconds * SECOND)

    def send(_: object) -> None:
        line.send(Packet(LONGEST_FRAME, conversation, (lambda _: None, events.now)))
        if events.now + interval < end:
            events.at(events.now + interval, send)

    begun = time.perf_counter()
    send(None)
    events.run(end)
    return seconds / (time.perf_counter() - begun)


def measured(seconds: float) -> Iterator[tuple[str, float, float, float]]:
    """Of each line: times real time with the plan, without it, and of full packets alone."""
    for name, down, up, rate, flows, span in (
        ("100/20 Mbit/s, 30 connections", "100 Mbit/s", "20 Mbit/s", 100_000_000, (20, 10), seconds),
        ("1/1 Gbit/s, 60 connections", "1 Gbit/s", "1 Gbit/s", 1_000_000_000, (40, 20), seconds / 10),
    ):
        plan = plan_of(down, up)
        traffic = load_traffic(Kept("load.yaml", traffic_text(*flows, span).encode()), plan)
        times = []
        for shaped in (True, False):
            lab = Lab(plan, traffic, shaped)
            begun = time.perf_counter()
            lab.run()
            times.append(span / (time.perf_counter() - begun))
        yield name, times[0], times[1], alone(rate, span)


def main() -> None:
    """Print the table."""
    print(f"{form_words()}; times real time, on one core")
    print("| line | with the plan | without | full packets alone |\n|---|---|---|---|")
    for name, *times in measured(float(sys.argv[1]) if len(sys.argv) > 1 else 20.0):
        print(f"| {name} | {' | '.join(f'{each:.1f}' for each in times)} |")


if __name__ == "__main__":
    main()

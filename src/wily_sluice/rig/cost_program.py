"""The program measured in a rig of cost: a gate without limiting rates, or a loop that accepts everything at once.

`python -m … gate PLAN` or `… bare PLAN`: prints a line of JSON each second, with the number of packets released and the
fraction of time it worked, until ended.
"""

import json
import select
import signal
import sys
import time
from dataclasses import replace
from pathlib import Path

from wily_sluice.gate.gate import Gate
from wily_sluice.gate.kernel import diversion
from wily_sluice.gate.kernel.packet_queue import PacketQueue
from wily_sluice.gate.kernel.process import run_before_others
from wily_sluice.gate.loop import BATCH
from wily_sluice.gate.observers import CounterRow
from wily_sluice.gate.queue_manager import FIRST_QUEUE
from wily_sluice.outside.files import load
from wily_sluice.plan.model import Plan
from wily_sluice.units import SECOND, Nanoseconds, Rate

LIFTED: Rate = 40_000_000_000


def lifted(plan: Plan) -> Plan:
    """The same plan with rates that limit nothing; its rules and queues still cost time."""
    limiters = tuple(
        replace(limiter, down=LIFTED if limiter.down else None, up=LIFTED if limiter.up else None)
        for limiter in plan.limiters
    )
    return replace(
        plan, uplinks=tuple(replace(uplink, down=LIFTED, up=LIFTED) for uplink in plan.uplinks), limiters=limiters
    )


class Teller:
    """Reports the gate's counters."""

    def __init__(self) -> None:
        self._worked = time.process_time()
        self._packets = 0

    def tell(self, packets: int, lasted: Nanoseconds) -> None:
        """A line of it."""
        worked = time.process_time()
        report = {"packets": packets, "seconds": lasted / SECOND, "worked": worked - self._worked}
        self._worked = worked
        print(json.dumps(report), flush=True)

    def fileno(self) -> int:
        """Of something that is never readable."""
        return sys.stderr.fileno()

    def turn(self) -> None:
        """Never called: nothing is readable."""

    def ready(self) -> None:
        """The figures say when it shapes."""

    def told(self, interface: str, here: bool) -> None:
        """A measurement has no interface that goes."""

    def happened(self, event: str, level: str, **about: str | int | float | bool) -> None:
        """What happens is not measured."""

    def count(self, rows: list[CounterRow]) -> None:
        """Add them up."""
        self._packets += sum(row.packets for row in rows if row.kind == "queue")

    def tick(self, lasted: Nanoseconds) -> None:
        """Tell."""
        self.tell(self._packets, lasted)
        self._packets = 0


def bare(plan: Plan) -> None:
    """Accept every packet that goes up."""
    diversion.remove()
    queue = PacketQueue(FIRST_QUEUE)
    diversion.put(
        diversion.rules([diversion.Diverting(plan.uplinks[0].interface, "up", FIRST_QUEUE)], None, None), True
    )
    run_before_others()
    teller = Teller()
    packets, begun = 0, time.monotonic_ns()
    over: list[int] = []
    signal.signal(signal.SIGINT, lambda number, _: over.append(number))
    try:
        while not over:
            select.select([queue], (), (), 0.2)
            while arrived := queue.read(BATCH):
                for diverted in arrived:
                    queue.accept(diverted.token)
                queue.flush()
                packets += len(arrived)
                if time.monotonic_ns() - begun >= SECOND:
                    break
            now = time.monotonic_ns()
            if now - begun >= SECOND:
                teller.tell(packets, now - begun)
                packets, begun = 0, now
    finally:
        diversion.remove()
        queue.close()


def main(what: str, plan_file: str) -> None:
    """Run one of the two."""
    plan = load(Path(plan_file))
    if what == "bare":
        bare(plan)
    else:
        Gate(lifted(plan), None, Teller()).run(lambda: None)


if __name__ == "__main__":
    main(*sys.argv[1:])

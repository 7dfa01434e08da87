"""A gate for testing parts of a plan, and what all programs that follow orders have in common.

A gate for testing parts of a plan: `python -m wily_sluice.rig.promises.gate_program PLAN`.

Takes orders on standard input, as lines of JSON, and answers each with a line:

- `{"part": [KIND, NAME], "spent": …, "moment": …}`: switch to this part of the plan (`prove.setting.Part`), with quotas
  used up, at this time of the schedules; answers `{"trouble": …}`, empty on success
- `{"look": [KEY, …], "uplink": …}`: the queues of conversations, by their keys in hex; answers with the paths of leaves
  in each direction, `{"up": […], "down": […]}`, empty if unknown
- `{"lead": [KEY, …]}`: the uplinks of conversations for up; answers `{"lines": […]}`, empty if unknown
- `{"down": true}`: answers with the uplinks that are down, as `{"down": […]}`
- `{"held": true}`: answers with the number of held packets, as `{"held": …}`
"""

import json
import os
import signal
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from subprocess import PIPE
from typing import Any

from wily_sluice.errors import LiveError
from wily_sluice.forecast.prove.bench import part_of
from wily_sluice.forecast.prove.proof import TREES, Part
from wily_sluice.gate.gate import Gate
from wily_sluice.gate.look import look_at
from wily_sluice.gate.observers import CounterRow, time_in
from wily_sluice.outside.files import load
from wily_sluice.plan.model import Plan
from wily_sluice.units import DIRECTIONS, Nanoseconds

PATIENCE = 15.0  # seconds


class Program:
    """A program of the rig that follows orders."""

    def __init__(self, command: Sequence[str], log: Path) -> None:
        self._log = log
        with log.open("wb") as errors:
            self._process = subprocess.Popen(
                command, stdin=PIPE, stdout=PIPE, stderr=errors, text=True, start_new_session=True
            )
        self.answer()

    def order(self, what: dict[str, Any]) -> None:
        """Give an order."""
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(json.dumps(what) + "\n")
            self._process.stdin.flush()
        except BrokenPipeError:
            raise LiveError(self._trouble()) from None

    def answer(self) -> Any:
        """Wait for the answer to the last one."""
        assert self._process.stdout is not None
        line = self._process.stdout.readline()
        if not line:
            raise LiveError(self._trouble())
        return json.loads(line)

    def ask(self, what: dict[str, Any]) -> Any:
        """Give an order, and wait for its answer."""
        self.order(what)
        return self.answer()

    def _trouble(self) -> str:
        lines = self._log.read_text(errors="replace").strip().splitlines()
        return f"a program of the rig ended: {lines[-1] if lines else 'it said nothing'}"

    def kill(self) -> None:
        """As a crash would."""
        self._process.kill()
        self._process.wait()

    def close(self) -> None:
        """End it."""
        if self._process.poll() is None:
            self._process.send_signal(signal.SIGTERM)
        try:
            self._process.communicate(timeout=PATIENCE)
        except subprocess.TimeoutExpired:
            self.kill()


class Orders:
    """Follows orders on standard input. A watcher of the gate."""

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._moment: datetime | None = None
        self._begun = b""
        self.gate: Gate | None = None

    def clock(self, zone: str) -> datetime:
        """The moment that was ordered, or what time it is."""
        return self._moment or time_in(zone)

    def fileno(self) -> int:
        """Of standard input."""
        return sys.stdin.fileno()

    def turn(self) -> None:
        """Read orders, and follow them."""
        assert self.gate is not None
        read = os.read(self.fileno(), 1 << 16)
        if not read:
            self.gate.stop()
        *lines, self._begun = (self._begun + read).split(b"\n")
        for line in lines:
            self._follow(json.loads(line))

    def _follow(self, order: dict[str, Any]) -> None:
        gate = self.gate
        assert gate is not None
        if "look" in order:
            by_direction: dict[str, list[str]] = {"up": [], "down": []}
            for key in order["look"]:
                look = look_at(gate.engine, bytes.fromhex(key))
                going = look.going if look is not None else ()
                queues = {step.direction: step.queue for step in going if step.uplink == order["uplink"]}
                for way in DIRECTIONS:
                    by_direction[way].append(queues.get(way, ""))
            _answer(by_direction)
            return
        if "lead" in order:
            lines = []
            for key in order["lead"]:
                look = look_at(gate.engine, bytes.fromhex(key))
                going = look.going if look is not None else ()
                lines.append(next((step.uplink for step in going if step.direction == "up"), ""))
            _answer({"lines": lines})
            return
        if "down" in order:
            _answer({"down": gate.down})
            return
        if "held" in order:
            tallies = (tally for shaper in gate.engine.shapers.values() for tally in shaper.touched)
            _answer({"held": sum(tally.waiting for tally in tallies)})
            return
        self._moment = datetime.fromisoformat(order["moment"]) if order["moment"] else None
        plan = part_of(self._plan, Part(*order["part"]))
        if order["spent"]:
            plan = replace(plan, limiters=tuple(replace(limiter, quota_from=0.0) for limiter in plan.limiters))
        gate.offer(lambda: plan, lambda trouble: _answer({"trouble": trouble}))

    def ready(self) -> None:
        """It shapes."""
        _answer({"trouble": ""})

    def count(self, rows: list[CounterRow]) -> None:
        """Packets are counted on release."""

    def tick(self, lasted: Nanoseconds) -> None:
        """As `count`."""

    def told(self, interface: str, here: bool) -> None:
        """A rig's interfaces stay."""

    def happened(self, event: str, level: str, **about: str | int | float | bool) -> None:
        """For the log of the rig."""
        print(event, level, about, file=sys.stderr, flush=True)


def _answer(answer: dict[str, Any]) -> None:
    print(json.dumps(answer), flush=True)


def main(plan_file: str) -> None:
    """Shape by the plan's trees until another order arrives, or standard input ends."""
    plan = load(Path(plan_file))
    orders = Orders(plan)
    orders.gate = gate = Gate(part_of(plan, TREES), None, orders, clock=orders.clock)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    gate.run(lambda: None)


if __name__ == "__main__":
    main(sys.argv[1])

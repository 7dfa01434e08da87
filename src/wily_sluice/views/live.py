"""What a running gate prints each second: rate and drops of each queue that is busy."""

import time
from dataclasses import dataclass
from typing import Any

from rich.text import Text

from wily_sluice.plan.build import SiteEngine
from wily_sluice.units import DIRECTIONS, Direction, format_rate
from wily_sluice.views.tree import ARROWS


@dataclass(frozen=True, slots=True)
class Second:
    """What one queue or limiter did in the last second or so: bit/s, and packets dropped."""

    uplink: str | None  # None for a limiter
    direction: Direction
    name: str
    rate: float
    drops: int


class Seconds:
    """Turns counters that only grow into what happened since the last call."""

    def __init__(self, engine: SiteEngine) -> None:
        self._engine = engine
        self._before: dict[tuple[str | None, str, str], tuple[int, int]] = {}
        self._at = time.monotonic()

    def since_last(self) -> list[Second]:
        """Every leaf of every uplink and direction, then every limiter."""
        now = time.monotonic()
        lasted, self._at = now - self._at, now
        counters: list[tuple[str | None, Direction, str, int, int]] = [
            (uplink, direction, leaf.path, leaf.sent_bytes, leaf.drops)
            for (uplink, direction), shaper in self._engine.shapers.items()
            for leaf in shaper.tree.leaves
        ]
        counters += [
            (None, direction, limiter.name, 0, limiter.drops)
            for direction in DIRECTIONS
            for limiter in self._engine.banks[direction].limiters
            if limiter is not None
        ]
        seconds = []
        for uplink, direction, name, sent, drops in counters:
            key = (uplink, direction, name)
            sent_before, drops_before = self._before.get(key, (0, 0))
            self._before[key] = (sent, drops)
            seconds.append(Second(uplink, direction, name, (sent - sent_before) * 8 / lasted, drops - drops_before))
        return seconds


def second_lines(seconds: list[Second]) -> list[Text]:
    """One line for each uplink and direction, with its busy queues; then one if limiters dropped anything."""
    clock = time.strftime("%H:%M:%S")
    lines = []
    width = max(len(s.uplink or "") for s in seconds)
    for uplink, direction in dict.fromkeys((s.uplink, s.direction) for s in seconds if s.uplink is not None):
        own = [s for s in seconds if (s.uplink, s.direction) == (uplink, direction)]
        total = sum(s.rate for s in own)
        line = Text(f"{clock} {uplink:<{width}} {ARROWS[direction]:<6}", "dim")
        line.append(f"{format_rate(total):>13}", "not dim bold" if total else "")
        for second in own:
            if second.rate or second.drops:
                line.append(f"  {second.name} ", "not dim cyan").append(format_rate(second.rate), "not dim")
                line.append(f" ({second.drops} dropped)" if second.drops else "", "not dim yellow")
        lines.append(line)
    dropped = [s for s in seconds if s.uplink is None and s.drops]
    if dropped:
        line = Text(f"{clock} limiters", "dim")
        for second in dropped:
            line.append(f"  {second.name} {ARROWS[second.direction]} ", "not dim cyan")
            line.append(f"{second.drops} dropped", "not dim yellow")
        lines.append(line)
    return lines


def second_data(seconds: list[Second]) -> dict[str, Any]:
    """One second for JSON; rates in bit/s."""
    data: dict[str, Any] = {"time": round(time.time(), 3), "uplinks": {}, "limiters": {}}
    for s in seconds:
        if s.uplink is None:
            data["limiters"].setdefault(s.name, {})[s.direction] = {"drops": s.drops}
        else:
            queues = data["uplinks"].setdefault(s.uplink, {}).setdefault(s.direction, {})
            queues[s.name] = {"rate": round(s.rate), "drops": s.drops}
    return data

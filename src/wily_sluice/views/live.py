"""What a running gate prints each second: rate, goodput, marks and drops of each queue that is busy."""

import time
from dataclasses import dataclass
from typing import Any

from rich.text import Text

from wily_sluice.plan.build import SiteEngine
from wily_sluice.units import DIRECTIONS, Direction, format_byte_rate, format_rate
from wily_sluice.views.tree import ARROWS


@dataclass(frozen=True, slots=True)
class Second:
    """What one queue or limiter did in the last second or so. `rate` and `goodput` are bit/s: of frames, of data."""

    uplink: str | None  # None for a limiter
    direction: Direction
    name: str
    rate: float
    goodput: float
    drops: int
    marks: int


@dataclass(frozen=True, slots=True)
class _Counters:
    """What only grows: bytes of frames, bytes of data, packets dropped and packets marked."""

    sent: int = 0
    payload: int = 0
    drops: int = 0
    marks: int = 0


class Seconds:
    """Turns counters that only grow into what happened since the last call."""

    def __init__(self, engine: SiteEngine) -> None:
        self._engine = engine
        self._before: dict[tuple[str | None, Direction, str], _Counters] = {}
        self._at = time.monotonic()

    def _counters(self) -> dict[tuple[str | None, Direction, str], _Counters]:
        """Of every leaf of every uplink and direction, then of every limiter."""
        counters: dict[tuple[str | None, Direction, str], _Counters] = {
            (uplink, direction, leaf.path): _Counters(leaf.sent_bytes, leaf.sent_payload, leaf.drops, leaf.marks)
            for (uplink, direction), shaper in self._engine.shapers.items()
            for leaf in shaper.tree.leaves
        }
        return counters | {
            (None, direction, limiter.spec.name): _Counters(drops=limiter.drops)
            for direction in DIRECTIONS
            for limiter in self._engine.banks[direction].limiters
            if limiter is not None
        }

    def since_last(self) -> list[Second]:
        """What each of them did since the last call."""
        now = time.monotonic()
        lasted, self._at = now - self._at, now
        before, self._before = self._before, self._counters()
        seconds = []
        for (uplink, direction, name), counted in self._before.items():
            then = before.get((uplink, direction, name), _Counters())
            rate, goodput = ((new - old) * 8 / lasted for new, old in
                             ((counted.sent, then.sent), (counted.payload, then.payload)))  # fmt: skip
            drops, marks = counted.drops - then.drops, counted.marks - then.marks
            seconds.append(Second(uplink, direction, name, rate, goodput, drops, marks))
        return seconds


def _mega(rate: float) -> str:
    """Mbit/s, to three figures and a thousandth at the least."""
    return f"{rate / 1e6:.3f}" if rate < 1e6 else f"{float(f'{rate / 1e6:.3g}'):g}"


def second_lines(seconds: list[Second]) -> list[Text]:
    """One line for each uplink and direction that has traffic, with its busy queues in Mbit/s; one for the limiters."""
    clock = time.strftime("%H:%M:%S")
    lines = []
    width = max(len(s.uplink or "") for s in seconds)
    busy = [s for s in seconds if s.rate or s.drops] or seconds[:1]
    for uplink, direction in dict.fromkeys((s.uplink, s.direction) for s in busy if s.uplink is not None):
        own = [s for s in seconds if (s.uplink, s.direction) == (uplink, direction)]
        total, data = sum(s.rate for s in own), sum(s.goodput for s in own)
        line = Text(f"{clock} {uplink:<{width}} {ARROWS[direction]:<6}", "dim")
        line.append(f"{format_rate(total):>13}", "not dim bold" if total else "")
        line.append(f", data {_mega(data)} = {format_byte_rate(float(f'{data:.3g}'))}" if total else "")
        for second in own:
            told = [f"{n} {what}" for n, what in ((second.drops, "dropped"), (second.marks, "marked")) if n]
            if second.rate or told:
                line.append(f"  {second.name} ", "not dim cyan").append(_mega(second.rate), "not dim")
                line.append(f" ({', '.join(told)})" if told else "", "not dim yellow")
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
            queues[s.name] = {
                "rate": round(s.rate),
                "goodput": round(s.goodput),
                "drops": s.drops,
                "marks": s.marks,
            }
    return data

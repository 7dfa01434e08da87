"""The running gate's line for each second: rate, goodput, ECN marks and drops of each busy queue."""

import json
import time
from contextlib import suppress
from typing import Any

import click
from rich.text import Text

from wily_sluice.control.api.snapshot import Snapshot
from wily_sluice.history.counts import Counts, Key
from wily_sluice.plan.model import Plan
from wily_sluice.units import DIRECTIONS, SECOND, format_byte_rate, format_rate
from wily_sluice.views.text.console import ARROWS, console, print_line

IDLE = Counts()


def _mega(rate: float) -> str:
    """Mbit/s, to three figures and a thousandth at the least."""
    return f"{rate / 1e6:.3f}" if rate < 1e6 else f"{float(f'{rate / 1e6:.3g}'):g}"


def _goodput(snapshot: Snapshot, counts: Counts) -> float:
    return counts.payload * 8 * SECOND / snapshot.lasted if snapshot.lasted else 0.0


def _told(counts: Counts) -> str:
    words = [f"{n} {what}" for n, what in ((counts.drops, "dropped"), (counts.marks, "marked")) if n]
    return f" ({', '.join(words)})" if words else ""


def second_lines(plan: Plan, snapshot: Snapshot) -> list[Text]:
    """One line for each uplink and direction that has traffic, with its busy queues in Mbit/s; one for the limiters."""
    clock = time.strftime("%H:%M:%S", time.localtime(snapshot.at))
    lines = []
    width = max(len(uplink.name) for uplink in plan.uplinks)
    for uplink in plan.uplinks:
        for direction in DIRECTIONS:
            whole = snapshot.counts.get(Key("uplink", "", direction, uplink.name))
            if whole is None:
                continue
            data = _goodput(snapshot, whole)
            line = Text(f"{clock} {uplink.name:<{width}} {ARROWS[direction]:<6}", "dim")
            line.append(f"{format_rate(snapshot.framed_rate(whole)):>13}", "not dim bold" if whole.framed else "")
            line.append(f", data {_mega(data)} = {format_byte_rate(float(f'{data:.3g}'))}" if whole.framed else "")
            for leaf in plan.tree(uplink, direction).leaves:
                own = snapshot.counts.get(Key("queue", uplink.name, direction, leaf.path), IDLE)
                if own.framed or _told(own):
                    rate = _mega(snapshot.framed_rate(own))
                    line.append(f"  {leaf.path} ", "not dim cyan").append(rate, "not dim")
                    line.append(_told(own), "not dim yellow")
            lines.append(line)
    dropped = [(key, own) for key, own in snapshot.counts.items() if key.subject == "limiter" and own.drops]
    if dropped:
        line = Text(f"{clock} limiters", "dim")
        for key, own in dropped:
            line.append(f"  {key.name} {ARROWS[key.direction]} ", "not dim cyan")
            line.append(f"{own.drops} dropped", "not dim yellow")
        lines.append(line)
    return lines


def second_data(plan: Plan, snapshot: Snapshot) -> dict[str, Any]:
    """One second for JSON; rates in bit/s."""
    data: dict[str, Any] = {"time": round(snapshot.at, 3), "uplinks": {}, "limiters": {}}
    for uplink in plan.uplinks:
        ways: dict[str, Any] = {}
        data["uplinks"][uplink.name] = ways
        for direction in DIRECTIONS:
            queues = ways[direction] = {}
            for leaf in plan.tree(uplink, direction).leaves:
                own = snapshot.counts.get(Key("queue", uplink.name, direction, leaf.path), IDLE)
                queues[leaf.path] = {
                    "rate": round(snapshot.framed_rate(own)),
                    "goodput": round(_goodput(snapshot, own)),
                    "drops": own.drops,
                    "marks": own.marks,
                }
    for limiter in plan.limiters:
        for direction in DIRECTIONS:
            if limiter.rate(direction) is not None:
                own = snapshot.counts.get(Key("limiter", "", direction, limiter.name), IDLE)
                data["limiters"].setdefault(limiter.name, {})[direction] = {"drops": own.drops}
    return data


def print_data(plan: Plan, second: Snapshot) -> None:
    """One line of JSON for a second."""
    with suppress(BrokenPipeError):
        click.echo(json.dumps(second_data(plan, second)))


def print_lines(plan: Plan, second: Snapshot) -> None:
    """A second's lines."""
    with suppress(BrokenPipeError):
        for line in second_lines(plan, second):
            print_line(console(), line)

"""Measured delays of a line, as a table and as data."""

from dataclasses import asdict
from typing import Any

from rich.console import Console
from rich.table import Table

from wily_sluice.gauge.delays import Delays
from wily_sluice.units import format_share, format_time
from wily_sluice.views.text.console import print_line


def _time(value: float | None) -> str:
    return format_time(value) if value is not None else "–"


def _lost(count: int | None, sent: int) -> str:
    return f"{count} of {sent} ({format_share(round(count / sent, 4))})" if count is not None and sent else "–"


def print_delays(screen: Console, host: str, found: Delays, whole: bool) -> None:
    """Round trips, and jitter and loss in each direction."""
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False, pad_edge=False)
    table.add_column(style="dim", no_wrap=True)
    table.add_column(no_wrap=True)
    trips = f"{_time(found.least)} at least, {_time(found.p50)} p50, {_time(found.p95)} p95, {_time(found.p99)} p99"
    table.add_row("round trip", trips)
    table.add_row("jitter", f"{_time(found.jitter_up)} up, {_time(found.jitter_down)} down")
    table.add_row("lost up", _lost(found.lost_up, found.sent))
    table.add_row("lost down", _lost(found.lost_down, found.sent))
    partly = "" if whole else ", ended early"
    print_line(screen, f"{host}: {found.answered} of {found.sent} test packets came back{partly}")
    screen.print(table)


def delays_data(host: str, found: Delays, whole: bool) -> dict[str, Any]:
    """For JSON: nanoseconds and packets; `whole` is false where it was ended early."""
    return {"host": host, "whole": whole, **asdict(found)}

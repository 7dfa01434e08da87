"""Measurements: what shaping costs, delays of a line, and a trial beside its forecast."""

from dataclasses import asdict
from typing import Any

from rich.console import Console
from rich.table import Table

from wily_sluice.gauge.delays import Delays
from wily_sluice.rig.trial import CallResult, CallTrial
from wily_sluice.units import MILLISECOND, Rate, format_rate, format_share, format_time
from wily_sluice.views.text.console import print_line


def _time(value: float | None) -> str:
    return format_time(value) if value is not None else "–"


def _lost(count: int | None, sent: int) -> str:
    return f"{count} of {sent} ({format_share(round(count / sent, 4))})" if count is not None and sent else "–"


def print_delays(screen: Console, host: str, delays: Delays, whole: bool) -> None:
    """Round trips, and jitter and loss in each direction."""
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False, pad_edge=False)
    table.add_column(style="dim", no_wrap=True)
    table.add_column(no_wrap=True)
    trips = f"{_time(delays.least)} at least, {_time(delays.p50)} p50, {_time(delays.p95)} p95, {_time(delays.p99)} p99"
    table.add_row("round trip", trips)
    table.add_row("jitter", f"{_time(delays.jitter_up)} up, {_time(delays.jitter_down)} down")
    table.add_row("lost up", _lost(delays.lost_up, delays.sent))
    table.add_row("lost down", _lost(delays.lost_down, delays.sent))
    partly = "" if whole else ", ended early"
    print_line(screen, f"{host}: {delays.answered} of {delays.sent} test packets came back{partly}")
    screen.print(table)


def delays_data(host: str, delays: Delays, whole: bool) -> dict[str, Any]:
    """For JSON: nanoseconds and packets; `whole` is false where it was ended early."""
    return {"host": host, "whole": whole, **asdict(delays)}


WAYS = {"up": "↑", "down": "↓"}


def print_trial(console: Console, trial: CallTrial, uploads: Rate, limited: Rate) -> None:
    """`uploads` and `limited` are the goodput in bit/s that the forecast gives to all uploads and to a limited host."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    for heading in ("", "without the gate", "with the gate", "forecast"):
        table.add_column(heading, justify="left" if not heading else "right", no_wrap=True)
    for way in ("up", "down"):
        for percent in (50, 99):
            before, after = (_delay(call, way, percent) for call in (trial.call_before, trial.call_after))
            table.add_row(f"call {WAYS[way]} p{percent}", before, after, "–")
    losses = (format_share(round(call.loss, 4)) for call in (trial.call_before, trial.call_after))
    table.add_row("call, packets lost", *losses, "–")
    table.add_row(
        "8 uploads, goodput", format_rate(trial.uploads_before), format_rate(trial.uploads_after), format_rate(uploads)
    )
    for address, goodput in trial.limited.items():
        table.add_row(f"phone {address}, goodput", "–", format_rate(goodput), format_rate(limited))
    console.print(table)


def _delay(call: CallResult, way: str, percent: float) -> str:
    return f"{call.percentile(way, percent) / MILLISECOND:.1f} ms"

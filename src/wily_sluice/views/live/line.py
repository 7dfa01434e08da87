"""Measurements of a line, and a trial beside its forecast."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Final

from rich.console import Console
from rich.table import Table

from wily_sluice.gauge.advice import Advice
from wily_sluice.gauge.delays import Delays
from wily_sluice.gauge.estimates import STEP, Estimate
from wily_sluice.gauge.line import Measured
from wily_sluice.rig.trial import CallResult, CallTrial
from wily_sluice.units import (
    DIRECTIONS,
    MILLISECOND,
    SECOND,
    Direction,
    Rate,
    format_rate,
    format_share,
    format_time,
    iso_time,
)
from wily_sluice.views.text.console import print_line

COLOURS = {"down": "#3b6ea5", "up": "#c9743c"}
MISSING = "–"


def _rate(estimate: Estimate | None) -> str:
    if estimate is None:
        return MISSING
    half = (estimate.high - estimate.low) / 2
    return f"{format_rate(round(estimate.rate))} ± {half / estimate.rate:.1%}" if estimate.rate else format_rate(0)


def _time(value: float | None) -> str:
    return format_time(value) if value is not None else MISSING


def print_measured(screen: Console, measured: Measured, advised: Advice | None, uplink: str) -> None:
    """A table of both directions, the missing figures, and the advice for a plan."""
    partly = "" if measured.whole else "; not every figure could be measured"
    print_line(screen, f"the line to {measured.host}{partly}")
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    table.add_column("", style="dim", no_wrap=True)
    for way in DIRECTIONS:
        table.add_column(way, no_wrap=True)
    ways = [measured.ways[way] for way in DIRECTIONS]
    table.add_row("data", *(_rate(way.data) for way in ways))
    table.add_row("data, both ways at once", *(_rate(way.both) for way in ways))
    table.add_row("buffer of the line", *(_time(way.buffer) for way in ways))
    table.add_row("round trip under load, p95", *(_time(way.loaded.p95 if way.loaded else None) for way in ways))
    trips = [f"{way.responsiveness:,.0f}" if way.responsiveness is not None else MISSING for way in ways]
    table.add_row("round trips a minute under load", *trips)
    lost = []
    for figures, name in zip(ways, DIRECTIONS, strict=True):
        delays = figures.loaded
        count = None if delays is None else delays.lost_down if name == "down" else delays.lost_up
        lost.append(
            format_share(round(count / delays.sent, 4)) if delays is not None and count is not None else MISSING
        )
    table.add_row("test packets lost under load", *lost)
    screen.print(table)
    if measured.idle is not None:
        idle = measured.idle
        jitter = f"{_time(idle.jitter_down)} down, {_time(idle.jitter_up)} up"
        print_line(
            screen, f"round trip of the idle line: {_time(idle.p50)}, {_time(idle.least)} at least; jitter {jitter}"
        )
    if measured.largest is not None:
        print_line(screen, f"largest packet: {measured.largest:,} bytes")
    for trouble in measured.troubles:
        print_line(screen, f"missing: {trouble}")
    for note in measured.notes:
        print_line(screen, f"note: {note}")
    if advised is not None:
        screen.print()
        print_line(screen, f"In a plan, for {uplink}:" if uplink else "In a plan:")
        rates = ", ".join(f"{way}: {format_rate(rate)}" for way, rate in advised.rates.items())
        print_line(screen, f"  {rates}, headroom: {advised.headroom:.0%}, framing: {advised.framing}")
        for step in advised.steps:
            print_line(screen, f"  {step}")


def print_day(screen: Console, measurements: Sequence[Measured]) -> None:
    """How a line varied."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    for name in ("at", "down", "up", "idle", "buffer down", "buffer up"):
        table.add_column(name, no_wrap=True)
    for measurement in measurements:
        at = datetime.fromtimestamp(measurement.at / SECOND, UTC).astimezone()
        down, up = measurement.ways["down"], measurement.ways["up"]
        idle = _time(measurement.idle.p50) if measurement.idle is not None else MISSING
        table.add_row(f"{at:%a %H:%M}", _rate(down.data), _rate(up.data), idle, _time(down.buffer), _time(up.buffer))
    screen.print(table)


def measured_data(measured: Measured) -> dict[str, Any]:
    """For JSON: nanoseconds, bit/s, bytes."""
    ways: dict[str, Any] = {}
    for name, way in measured.ways.items():
        ways[name] = {
            "data": asdict(way.data) if way.data is not None else None,
            "both": asdict(way.both) if way.both is not None else None,
            "buffer": way.buffer,
            "delays": [
                sample[2 if name == "down" else 1] for sample in measured.waits if _within(measured, name, sample[0])
            ],
            "round_trips_a_minute": way.responsiveness,
            "loaded": asdict(way.loaded) if way.loaded is not None else None,
        }
    return {
        "at": datetime.fromtimestamp(measured.at / SECOND, UTC).isoformat(),
        "host": measured.host,
        "whole": measured.whole,
        "idle": asdict(measured.idle) if measured.idle is not None else None,
        **ways,
        "segment": measured.segment,
        "headers": measured.headers,
        "sizes": [list(size) for size in measured.sizes],
        "largest_packet": measured.largest,
        "framings": [asdict(fit) for fit in measured.framings],
        "missing": measured.troubles,
        "notes": measured.notes,
    }


def _within(measured: Measured, phase: str, moment: int) -> bool:
    return any(first <= moment < last for name, first, last in measured.phases if name == phase)


def advice_data(advised: Advice | None) -> dict[str, Any] | None:
    """For JSON."""
    return asdict(advised) if advised is not None else None


LOADS: Final = (("alone", "-"), ("both ways at once", ":"))
PHASES: Final = {"idle": "idle", "down": "loaded down", "up": "loaded up", "both": "loaded both ways"}


def draw_measured(measured: Measured, file: Path) -> None:
    """One row for each direction: its rate under each load, with the delays of each phase. The suffix chooses PNG or
    SVG. OSError.
    """
    from matplotlib import rc_context
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    style: Any = {"svg.fonttype": "none", "svg.hashsalt": "wily-sluice", "font.family": "DejaVu Sans", "font.size": 10}
    with rc_context(style):
        figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="white", layout="constrained")
        FigureCanvasAgg(figure)
        figure.suptitle(f"The line to {measured.host}", x=0.01, ha="left", fontsize=13, weight="bold")
        panels = figure.subplots(2, 2, width_ratios=(3, 2), sharex="col")
        for way, (rates, delays) in zip(DIRECTIONS, panels, strict=True):
            _draw_rates(rates, measured, way)
            _draw_delays(delays, measured, way)
            for panel in (rates, delays):
                panel.set_axisbelow(True)
                for side in ("top", "right"):
                    panel.spines[side].set_visible(False)
        panels[-1][0].set_xlabel("seconds of the load")
        panels[-1][1].set_xlabel("delay in the line, ms")
        figure.savefig(file, metadata={"Date": None} if file.suffix == ".svg" else None)


def _draw_rates(panel: Any, measured: Measured, way: Direction) -> None:
    """The data rate of one direction in each of its loads, each from its own beginning."""
    loads = [(edges, rates) for loaded, edges, rates in _rates(measured) if loaded == way]
    for (edges, rates), (words, dash) in zip(loads, LOADS, strict=False):
        at = [(edge - edges[0]) / SECOND for edge in edges]
        panel.stairs(
            [rate / 1e6 for rate in rates], at, color=COLOURS[way], linewidth=1.6, linestyle=dash, label=words,
            baseline=None,
        )  # fmt: skip
    panel.set_title(f"{way}: data, Mbit/s", loc="left", fontsize=10)
    panel.set_ylim(0, panel.get_ylim()[1] * 1.05)
    panel.grid(axis="y", color="#dfe5ea", linewidth=0.8)
    if loads:
        panel.legend(loc="lower right", frameon=False)


def _draw_delays(panel: Any, measured: Measured, way: Direction) -> None:
    """The delays of one direction in each phase.

    A line spans the 5th to the 95th percentile, its thick part the 25th to the 75th, and a point marks the median.
    """
    import numpy as np

    column = 2 if way == "down" else 1
    shown = [(name, first, last) for name, first, last in measured.phases if name in PHASES]
    for place, (_, first, last) in enumerate(shown):
        delays = [max(0.0, sample[column] / 1e6) for sample in measured.waits if first <= sample[0] < last]
        if delays:
            low, quarter, half, most, high = np.percentile(delays, (5, 25, 50, 75, 95))
            panel.hlines(place, low, high, color=COLOURS[way], linewidth=1.4)
            panel.hlines(place, quarter, most, color=COLOURS[way], linewidth=7, alpha=0.55)
            panel.plot(half, place, "o", color=COLOURS[way], markersize=6)
            words = f"{half:.0f}" if half >= 10 else f"{half:.1f}"
            panel.annotate(words, (half, place), (5, 7), textcoords="offset points", fontsize=9)
    panel.set_yticks(range(len(shown)), [PHASES[name] for name, *_ in shown])
    panel.set_ylim(len(shown) - 0.4, -0.7)
    panel.set_xlim(left=0)
    panel.grid(axis="x", color="#dfe5ea", linewidth=0.8)
    panel.set_title(f"{way}: delay by phase", loc="left", fontsize=10)


def _rates(measured: Measured) -> Iterator[tuple[Direction, list[float], list[float]]]:
    """Of each load: its direction, the moments between steps in ns, and the data of each step in bit/s."""
    import numpy as np

    for way, begun, segment, course in measured.courses:
        if len(course) < 2:
            continue
        times = np.array([at for at, *_ in course], dtype=float)
        sizes = np.array([count * segment for _, count, _ in course], dtype=float)
        edges = np.arange(times[0], times[-1], STEP)
        rates = np.diff(np.interp(edges, times, sizes)) * 8 * SECOND / STEP
        yield way, (begun + edges - times[0]).tolist(), rates.tolist()


def line_records(measurements: Iterable[Measured]) -> Iterator[dict[str, Any]]:
    """Figures of measurements over time, for CSV: data in bit/s for each half second, and delays in ns."""
    for measured in measurements:
        seen: list[tuple[float, str, Direction, float, str]] = []
        for way, edges, rates in _rates(measured):
            seen += [(at, "data", way, round(rate), "bit/s") for at, rate in zip(edges, rates, strict=False)]
        for moment_ns, up, down in measured.waits:
            seen += [(moment_ns, "delay", "up", up, "ns"), (moment_ns, "delay", "down", down, "ns")]
        for at, what, way, value, unit in sorted(seen):
            moment = iso_time(at / SECOND)
            yield {"at": moment, "what": what, "direction": way, "value": value, "unit": unit}


def _moment(value: float | None) -> str:
    return format_time(value) if value is not None else "–"


def _lost(count: int | None, sent: int) -> str:
    return f"{count} of {sent} ({format_share(round(count / sent, 4))})" if count is not None and sent else "–"


def print_delays(screen: Console, host: str, delays: Delays, whole: bool) -> None:
    """Round trips, and jitter and loss in each direction."""
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False, pad_edge=False)
    table.add_column(style="dim", no_wrap=True)
    table.add_column(no_wrap=True)
    trips = f"{_moment(delays.least)} at least, "
    trips += f"{_moment(delays.p50)} p50, {_moment(delays.p95)} p95, {_moment(delays.p99)} p99"
    table.add_row("round trip", trips)
    table.add_row("jitter", f"{_moment(delays.jitter_up)} up, {_moment(delays.jitter_down)} down")
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

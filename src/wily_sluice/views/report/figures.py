"""The figures of a report, as SVG within the page. Their text stays text.

The colours can be distinguished by colour-blind people (Okabe and Ito 2008).
"""

from collections.abc import Sequence
from datetime import datetime
from io import StringIO
from typing import Any
from zoneinfo import ZoneInfo

import matplotlib.dates
import numpy as np
from matplotlib import rc_context
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from wily_sluice.units import MILLISECOND, Direction, Rate
from wily_sluice.views.report.contents import Mark, QueueRow, Report

BLUE, ORANGE, GREEN, INK, FAINT = "#0072b2", "#d55e00", "#009e73", "#3a4550", "#dfe5ea"
dates: Any = matplotlib.dates  # its functions have no types
DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
HEIGHT = 1.55  # inches of a queue's figure
WIDTH = 6.4


def _style(name: str) -> Any:
    return {
        "svg.fonttype": "none",
        "svg.hashsalt": name,
        "font.family": "sans-serif",
        "font.size": 9,
        "axes.edgecolor": INK,
        "text.color": INK,
        "axes.labelcolor": INK,
        "xtick.color": INK,
        "ytick.color": INK,
    }


def _svg(figure: Figure, title: str) -> str:
    """The picture alone, with a description for screen readers."""
    text = StringIO()
    figure.savefig(text, format="svg", metadata={"Date": None, "Creator": None, "Format": None, "Type": None})
    whole = text.getvalue()
    svg = whole[whole.index("<svg") :]
    first = svg.index(">")
    head = svg[:first]
    for length in ("width", "height"):  # the page sets them
        start = head.find(f' {length}="')
        if start >= 0:
            head = head[:start] + head[head.index('"', start + len(length) + 3) + 1 :]
    return f'{head} role="img" aria-label="{title}"{svg[first:]}'


def queue_figure(report: Report, row: QueueRow) -> str:
    """A queue's rate over time, with its guarantee and cap, and the p99 of its waits below."""
    period = report.period
    with rc_context(_style(f"{row.uplink} {row.direction} {row.path}")):
        figure = Figure(figsize=(WIDTH, HEIGHT), dpi=100, layout="constrained")
        FigureCanvasAgg(figure)
        rate, wait = figure.subplots(2, 1, sharex=True, height_ratios=(3, 1))
        times = _times(report)
        rates = [period.rate(size) / 1e6 for size in row.series.bytes]
        rate.fill_between(times, [*rates, rates[-1]], step="post", color=BLUE, alpha=0.85, linewidth=0)
        if row.guarantee:
            rate.axhline(row.guarantee / 1e6, color=GREEN, linewidth=1.2, linestyle="--")
        top = max([row.busiest / 1e6, row.guarantee / 1e6]) * 1.15 or 1.0
        if row.cap / 1e6 <= top * 1.6:
            rate.axhline(row.cap / 1e6, color=ORANGE, linewidth=1.2)
            top = max(top, row.cap / 1e6 * 1.08)
        rate.set_ylim(0, top)
        rate.set_ylabel("Mbit/s")
        waits = [value / MILLISECOND for value in row.series.p99]
        wait.fill_between(times, [*waits, waits[-1]], step="post", color=INK, alpha=0.6, linewidth=0)
        longest = max(1.0, max(waits) * 1.1)
        wait.set_ylim(0, longest)
        wait.set_ylabel("ms")
        for panel in (rate, wait):
            _plain(panel, times)
            for mark in report.marks:
                _mark(panel, report, mark)
        wait.set_yticks([0, float(f"{longest:.1g}")])
        _date_axis(wait, report)
        return _svg(figure, f"Rate and delay of {row.path}, {row.uplink} {row.direction}, over time")


def line_figure(report: Report, uplink: str, way: Direction, rates: Sequence[float], usable: Rate) -> str:
    """The rate of a whole uplink over time in bit/s, one value per step, with the usable rate."""
    with rc_context(_style(f"line {uplink} {way}")):
        figure = Figure(figsize=(WIDTH, HEIGHT), dpi=100, layout="constrained")
        FigureCanvasAgg(figure)
        panel = figure.subplots()
        times = _times(report)
        megabits = [rate / 1e6 for rate in rates]
        panel.fill_between(times, [*megabits, megabits[-1]], step="post", color=BLUE, alpha=0.85, linewidth=0)
        panel.axhline(usable / 1e6, color=ORANGE, linewidth=1.2)
        panel.set_ylim(0, max(usable / 1e6, *megabits) * 1.08)
        panel.set_ylabel("Mbit/s")
        _plain(panel, times)
        for mark in report.marks:
            _mark(panel, report, mark)
        _date_axis(panel, report)
        return _svg(figure, f"Rate of {uplink} {way} over time, with the usable rate")


def heat_map(report: Report, uplink: str, way: str, hours: Sequence[Sequence[float]]) -> str:
    """The mean rate of each hour of the week."""
    with rc_context(_style(f"heat {uplink} {way}")):
        figure = Figure(figsize=(WIDTH, 2.1), dpi=100, layout="constrained")
        FigureCanvasAgg(figure)
        panel = figure.subplots()
        values = np.asarray(hours) / 1e6
        image = panel.pcolormesh(np.arange(25), np.arange(8), values, cmap="cividis", vmin=0)
        panel.invert_yaxis()
        panel.set_yticks(np.arange(7) + 0.5, DAYS)
        panel.set_xticks(range(0, 25, 3), [f"{hour:02}" for hour in range(0, 25, 3)])
        figure.colorbar(image, ax=panel, label="Mbit/s")
        return _svg(figure, f"Mean rate of each hour of the week, {uplink} {way}")


def _times(report: Report) -> Any:
    period, zone = report.period, ZoneInfo(report.plan.timezone)
    moments = [datetime.fromtimestamp(period.begin + step * period.step, zone) for step in range(period.steps + 1)]
    return dates.date2num(moments)


def _plain(panel: Any, times: Any) -> None:
    panel.set_xlim(times[0], times[-1])
    panel.grid(axis="y", color=FAINT, linewidth=0.7)
    panel.set_axisbelow(True)
    panel.locator_params(axis="y", nbins=3)
    for side in ("top", "right"):
        panel.spines[side].set_visible(False)


def _date_axis(panel: Any, report: Report) -> None:
    zone = ZoneInfo(report.plan.timezone)
    locator = dates.AutoDateLocator(tz=zone, minticks=3, maxticks=8)
    panel.xaxis.set_major_locator(locator)
    panel.xaxis.set_major_formatter(dates.ConciseDateFormatter(locator, tz=zone))


def _mark(panel: Any, report: Report, mark: Mark) -> None:
    at = dates.date2num(datetime.fromtimestamp(mark.at, ZoneInfo(report.plan.timezone)))
    panel.axvline(at, color=INK, linewidth=0.9, linestyle=":")

"""Use over a period as a drawing: stacked bands for the subjects, one panel per direction."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import matplotlib.dates
from matplotlib import rc_context
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from wily_sluice.history.usage import Usage, Use
from wily_sluice.units import (
    DIRECTIONS,
    Direction,
)

dates: Any = matplotlib.dates  # its functions have no types
MOST_BANDS = 8  # the rest is one band
COLOURS = ("#7a1f3d", "#c9743c", "#cf9f3f", "#5d8a66", "#3f7f8c", "#3b6ea5", "#56569c", "#9a6fb0", "#b8bfc6")
REST = "all others"


def draw_usage(title: str, usage: Usage, uses: Sequence[Use], file: Path) -> None:
    """Draw it, as SVG or PNG by the file's suffix. OSError when it cannot be written."""
    with rc_context(
        {"svg.fonttype": "none", "svg.hashsalt": "wily-sluice", "font.family": "DejaVu Sans", "font.size": 10}
    ):
        figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="white", layout="constrained")
        FigureCanvasAgg(figure)
        figure.suptitle(title, x=0.01, ha="left", fontsize=13, weight="bold")
        panels: Sequence[Axes] = figure.subplots(2, 1, sharex=True)
        times = [_tick(usage.begin + index * usage.step) for index in range(usage.steps + 1)]
        names = list(dict.fromkeys(_label(use) for use in uses))
        for panel, direction in zip(panels, DIRECTIONS, strict=True):
            _draw(panel, times, usage, [use for use in uses if use.key.direction == direction], names, direction)
        zone = datetime.now().astimezone().tzinfo
        locator = dates.AutoDateLocator(tz=zone, minticks=3, maxticks=9)
        panels[-1].xaxis.set_major_locator(locator)
        panels[-1].xaxis.set_major_formatter(dates.ConciseDateFormatter(locator, tz=zone))
        figure.savefig(file, metadata={"Date": None} if file.suffix == ".svg" else None)


def _draw(
    panel: Axes, times: list[float], usage: Usage, uses: list[Use], names: list[str], direction: Direction
) -> None:
    bands: dict[str, list[float]] = {}
    for use in uses:
        name = _label(use)
        band = name if names.index(name) < MOST_BANDS else REST
        rates = [usage.rate(size) / 1e6 for size in use.course]
        bands[band] = [band + other for band, other in zip(bands[band], rates, strict=True)] if band in bands else rates
    colours = [COLOURS[min(names.index(band), MOST_BANDS)] if band in names else COLOURS[-1] for band in bands]
    if bands:
        courses = [[*rates, rates[-1]] for rates in bands.values()]  # the last step has an end, too
        panel.stackplot(times, courses, labels=list(bands), colors=colours, step="post", linewidth=0)
        handles, labels = panel.get_legend_handles_labels()
        panel.legend(
            handles[::-1], labels[::-1], loc="upper left", bbox_to_anchor=(1.005, 1.0), frameon=False, fontsize=9
        )
    panel.set_xlim(times[0], times[-1])
    panel.set_ylim(bottom=0)
    panel.set_ylabel(f"{direction}, Mbit/s")
    panel.grid(axis="y", color="#dfe5ea", linewidth=0.8)
    panel.set_axisbelow(True)
    for side in ("top", "right"):
        panel.spines[side].set_visible(False)


def _tick(at: int) -> float:
    """As Matplotlib has it: days since 1970."""
    return at / 86_400


def _label(use: Use) -> str:
    return f"{use.key.uplink}: {use.key.name}" if use.key.uplink else use.key.name

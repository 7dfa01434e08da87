"""Two results side by side: a table, data, and a picture."""

from collections.abc import Sequence
from pathlib import Path
from textwrap import fill
from typing import Any

from rich.console import Console
from rich.text import Text

from wily_sluice.comparing import Difference, Unit
from wily_sluice.units import format_rate, format_share, format_time
from wily_sluice.views.text.columns import Column, cells_of, records_of, table_of
from wily_sluice.views.text.console import fits, print_line

MISSING = "–"
COLOURS = ("#8a97a3", "#3b6ea5")
MOST_PANELS, MOST_BARS = 6, 16


def figure(value: float | None, unit: Unit) -> str:
    """A figure with its unit."""
    if value is None:
        return MISSING
    if unit == "bit/s":
        return format_rate(float(f"{value:.4g}")) if value else "0 bit/s"
    if unit == "ns":
        return format_time(round(value))
    return format_share(round(value, 4)) if unit == "share" else f"{value:,.0f} a minute"


def _change(difference: Difference) -> str:
    if difference.a is None or difference.b is None:
        return "only in B" if difference.a is None else "only in A"
    if difference.quantity.unit == "share":
        return f"{(difference.b - difference.a) * 100:+.1f} points" if difference.b != difference.a else ""
    if not difference.a:
        return "" if difference.b == difference.a else "from nothing"
    return f"{difference.b / difference.a - 1:+.1%}" if abs(difference.b / difference.a - 1) >= 0.0005 else ""


def _verdict(difference: Difference) -> Text:
    if difference.a is None or difference.b is None:
        return Text("")
    if not difference.beyond:
        return Text("the same" if difference.low is None else "within the noise", "dim")
    if difference.better is None:
        return Text("more" if difference.b > difference.a else "less", "bold")
    return Text("better", "green") if difference.better else Text("worse", "yellow")


COLUMNS: tuple[Column[Difference], ...] = (
    Column(lambda difference: difference.quantity.name, "name", ""),
    Column(lambda difference: difference.quantity.unit, "unit"),
    Column(lambda difference: difference.a, "a", "A", lambda own: figure(own.a, own.quantity.unit), right=True),
    Column(lambda difference: difference.b, "b", "B", lambda own: figure(own.b, own.quantity.unit), right=True),
    Column(lambda difference: difference.low, "low"),
    Column(lambda difference: difference.high, "high"),
    Column(lambda difference: difference.beyond, "beyond", "B beside A", _change, right=True),
    Column(lambda difference: difference.better, "better", "", _verdict),
)


def print_differences(screen: Console, names: tuple[str, str], differences: Sequence[Difference], every: bool) -> None:
    """One row per figure; equal figures only on request."""
    rows = [difference for difference in differences if every or difference.beyond]
    print_line(screen, f"A: {names[0]}")
    print_line(screen, f"B: {names[1]}")
    screen.print()
    table = table_of(COLUMNS, rows)
    if rows and fits(screen, table):
        screen.print(table)
    else:
        for row in rows:
            name, before, other, change, verdict = map(str, cells_of(COLUMNS, row))
            print_line(screen, f"{name}: {before} → {other} {change} {verdict}".rstrip())
    if rows:
        screen.print()
    same = len(differences) - sum(difference.beyond for difference in differences)
    changed = "1 figure differs" if len(differences) - same == 1 else f"{len(differences) - same} figures differ"
    print_line(screen, f"{changed}, {same} {'is' if same == 1 else 'are'} the same or within the noise")


def differences_data(names: tuple[str, str], differences: Sequence[Difference]) -> dict[str, Any]:
    """For JSON, without the samples."""
    return {"a": names[0], "b": names[1], "differences": records_of(COLUMNS, differences)}


def draw_differences(names: tuple[str, str], differences: Sequence[Difference], samples: Any, file: Path) -> None:
    """Rates side by side, and the distributions of delays; PNG or SVG by the suffix. OSError."""
    import numpy as np
    from matplotlib import rc_context
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    style: Any = {"svg.fonttype": "none", "svg.hashsalt": "wily-sluice", "font.family": "DejaVu Sans", "font.size": 10}
    rates = [
        difference
        for difference in differences
        if difference.quantity.unit == "bit/s" and (difference.a or difference.b)
    ]
    spread = list(samples.items())[:MOST_PANELS]
    with rc_context(style):
        canvas = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="white", layout="constrained")
        FigureCanvasAgg(canvas)
        canvas.suptitle(f"A: {names[0]}    B: {names[1]}", x=0.01, ha="left", fontsize=12, weight="bold")
        grid = canvas.add_gridspec(2 if spread and rates else 1, max(1, len(spread)))
        if rates:
            panel = canvas.add_subplot(grid[0, :])
            if len(rates) > MOST_BARS:
                rates = [rate for rate in rates if rate.beyond][:MOST_BARS]
            places = np.arange(len(rates))
            for side, (name, colour) in enumerate(zip("AB", COLOURS, strict=True)):
                values = [(rate.a if name == "A" else rate.b) or 0.0 for rate in rates]
                panel.barh(places + (side - 0.5) * 0.4, [v / 1e6 for v in values], 0.38, color=colour, label=name)
            panel.set_yticks(places, [rate.quantity.name.removesuffix(": data") for rate in rates], fontsize=9)
            panel.invert_yaxis()
            panel.set_xlabel("Mbit/s")
            panel.legend(frameon=False)
            _plain(panel, "x")
        for column, (name, (a, b)) in enumerate(spread):
            panel = canvas.add_subplot(grid[-1, column])
            for values, colour, label in zip((a, b), COLOURS, "AB", strict=True):
                ordered = np.sort(np.asarray(values, dtype=float)) / 1e6
                panel.plot(ordered, np.linspace(0, 100, len(ordered)), color=colour, linewidth=1.6, label=label)
            panel.set_title(fill(name, 22), fontsize=8.5, loc="left")
            panel.set_xlabel("ms")
            panel.set_ylim(0, 101)
            if column == 0:
                panel.set_ylabel("% of packets wait no longer")
            _plain(panel)
        canvas.savefig(file, metadata={"Date": None} if file.suffix == ".svg" else None)


def _plain(panel: Any, axis: str = "y") -> None:
    panel.grid(axis=axis, color="#dfe5ea", linewidth=0.8)
    panel.set_axisbelow(True)
    for side in ("top", "right"):
        panel.spines[side].set_visible(False)

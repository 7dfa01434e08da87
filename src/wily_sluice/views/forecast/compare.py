"""Two results side by side: a table, data, and a picture."""

from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from textwrap import fill
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.comparing.differences import Difference
from wily_sluice.comparing.quantities import Unit
from wily_sluice.units import format_rate, format_share, format_time
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


def _change(one: Difference) -> str:
    if one.a is None or one.b is None:
        return "only in B" if one.a is None else "only in A"
    if one.quantity.unit == "share":
        return f"{(one.b - one.a) * 100:+.1f} points" if one.b != one.a else ""
    if not one.a:
        return "" if one.b == one.a else "from nothing"
    return f"{one.b / one.a - 1:+.1%}" if abs(one.b / one.a - 1) >= 0.0005 else ""


def _verdict(one: Difference) -> Text:
    if one.a is None or one.b is None:
        return Text("")
    if not one.beyond:
        return Text("the same" if one.low is None else "within the noise", "dim")
    if one.better is None:
        return Text("more" if one.b > one.a else "less", "bold")
    return Text("better", "green") if one.better else Text("worse", "yellow")


def print_differences(screen: Console, names: tuple[str, str], found: Sequence[Difference], every: bool) -> None:
    """One row per figure; equal figures only on request."""
    shown = [one for one in found if every or one.beyond]
    print_line(screen, f"A: {names[0]}")
    print_line(screen, f"B: {names[1]}")
    screen.print()
    rows = [
        (
            one.quantity.name,
            figure(one.a, one.quantity.unit),
            figure(one.b, one.quantity.unit),
            _change(one),
            _verdict(one),
        )
        for one in shown
    ]
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    for name in ("", "A", "B", "B beside A", ""):
        table.add_column(name, no_wrap=True, justify="left" if not name else "right")
    for row in rows:
        table.add_row(*row)
    if rows and fits(screen, table):
        screen.print(table)
    else:
        for name, one, other, change, verdict in rows:
            print_line(screen, f"{name}: {one} → {other} {change} {verdict.plain}".rstrip())
    if rows:
        screen.print()
    same = len(found) - sum(one.beyond for one in found)
    changed = "1 figure differs" if len(found) - same == 1 else f"{len(found) - same} figures differ"
    print_line(screen, f"{changed}, {same} {'is' if same == 1 else 'are'} the same or within the noise")


def differences_data(names: tuple[str, str], found: Sequence[Difference]) -> dict[str, Any]:
    """For JSON, without the samples."""
    rows = []
    for one in found:
        data = asdict(one)
        quantity = data.pop("quantity")
        rows.append({"name": quantity["name"], "unit": quantity["unit"], **data})
    return {"a": names[0], "b": names[1], "differences": rows}


def draw_differences(names: tuple[str, str], found: Sequence[Difference], samples: Any, file: Path) -> None:
    """Rates side by side, and the distributions of delays; PNG or SVG by the suffix. OSError."""
    import numpy as np
    from matplotlib import rc_context
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    style: Any = {"svg.fonttype": "none", "svg.hashsalt": "wily-sluice", "font.family": "DejaVu Sans", "font.size": 10}
    rates = [one for one in found if one.quantity.unit == "bit/s" and (one.a or one.b)]
    spread = list(samples.items())[:MOST_PANELS]
    with rc_context(style):
        canvas = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="white", layout="constrained")
        FigureCanvasAgg(canvas)
        canvas.suptitle(f"A: {names[0]}    B: {names[1]}", x=0.01, ha="left", fontsize=12, weight="bold")
        grid = canvas.add_gridspec(2 if spread and rates else 1, max(1, len(spread)))
        if rates:
            panel = canvas.add_subplot(grid[0, :])
            if len(rates) > MOST_BARS:
                rates = [one for one in rates if one.beyond][:MOST_BARS]
            places = np.arange(len(rates))
            for side, (name, colour) in enumerate(zip("AB", COLOURS, strict=True)):
                values = [(one.a if name == "A" else one.b) or 0.0 for one in rates]
                panel.barh(places + (side - 0.5) * 0.4, [v / 1e6 for v in values], 0.38, color=colour, label=name)
            panel.set_yticks(places, [one.quantity.name.removesuffix(": data") for one in rates], fontsize=9)
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

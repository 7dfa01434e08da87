"""Use over a period, as a table, as CSV, as data, and as a drawing."""

import csv
from collections.abc import Sequence
from datetime import UTC, tzinfo
from io import StringIO
from itertools import pairwise
from typing import Any

from rich.console import Console
from rich.table import Table

from wily_sluice.history.usage import Usage, Use
from wily_sluice.units import (
    DIRECTIONS,
    MILLISECOND,
    SECOND,
    Nanoseconds,
    format_rate,
    format_size,
    format_time,
    iso_time,
)
from wily_sluice.views.text.console import ARROWS, fits, sparkline

SHAPES = ((24, 2), (12, 2), (0, 2), (0, 1))  # columns of a sparkline, and between columns: the first that fits
STEP_NAMES = {1: "second", 60: "minute", 3600: "hour"}


def usage_table(screen: Console, usage: Usage, uses: Sequence[Use]) -> Table:
    """One row for each subject and direction, with a chart on a common scale; on a narrow screen the chart is short or
    absent.
    """
    tables = [_table(usage, uses, *shape) for shape in SHAPES]
    return next((table for table in tables if fits(screen, table)), tables[-1])


def _table(usage: Usage, uses: Sequence[Use], columns: int, gap: int) -> Table:
    table = Table(box=None, padding=(0, gap, 0, 0), header_style="dim", pad_edge=False)
    trips = _trips(uses)
    places = [place for place in ("beyond", "inside") if any(trip[place] for trip in trips.values())]
    words = {"beyond": "round trip", "inside": "in house"}
    names = (
        "",
        "",
        "moved",
        "mean",
        f"busiest {STEP_NAMES[usage.step]}",
        "drops",
        "delay p99",
        *(words[place] for place in places),
        "history",
    )
    for name in names if columns else names[:-1]:
        heading = name if columns else name.replace(" ", "\n")
        table.add_column(heading, justify="left" if name in ("", "history") else "right", no_wrap=True)
    courses = [(use.key.direction, squeezed(use.course, max(columns, 1))) for use in uses]
    busiest = {way: max((max(course) for of, course in courses if of == way), default=0) or 1 for way in DIRECTIONS}
    before = None
    for use, (_, course) in zip(uses, courses, strict=True):
        name = _name(use)
        cells = (
            "" if name == before else name,
            use.key.direction if columns else ARROWS[use.key.direction][0],
            format_size(int(float(f"{use.whole.bytes:.3g}"))),
            _short(usage.mean(use)),
            _short(usage.busiest(use)),
            f"{use.whole.drops:,}" if use.whole.drops else "",
            format_time(use.whole.p99) if use.whole.p99 > MILLISECOND else "",
            *("" if name == before else _time(trips[use.key.uplink, use.key.name][place]) for place in places),
            sparkline(course, busiest[use.key.direction]),
        )
        table.add_row(*cells if columns else cells[:-1])
        before = name
    return table


def _trips(uses: Sequence[Use]) -> dict[tuple[str, str], dict[str, Nanoseconds]]:
    """Round trips of each subject: seen in the packets of one direction, and true of both."""
    trips: dict[tuple[str, str], dict[str, Nanoseconds]] = {}
    for use in uses:
        trip = trips.setdefault((use.key.uplink, use.key.name), {"beyond": 0, "inside": 0})
        trip["beyond"], trip["inside"] = use.whole.beyond or trip["beyond"], use.whole.inside or trip["inside"]
    return trips


def _time(took: Nanoseconds) -> str:
    return format_time(float(f"{took:.2g}")) if took else ""


def squeezed(course: Sequence[int], columns: int) -> list[float]:
    """As many means as there are columns, or as there are steps where these are fewer."""
    if len(course) <= columns:
        return list(course)
    cuts = [len(course) * index // columns for index in range(columns + 1)]
    return [sum(course[first:last]) / (last - first) for first, last in pairwise(cuts)]


def _name(use: Use) -> str:
    return f"{use.key.uplink}  {use.key.name}" if use.key.uplink else use.key.name


def _short(rate: float) -> str:
    return format_rate(float(f"{rate:.3g}")) if rate else ""


def usage_data(usage: Usage, uses: Sequence[Use], zone: tzinfo = UTC) -> dict[str, Any]:
    """For JSON: bytes, bit/s, seconds; `course` is bit/s in each step. Moments are of the zone, with its offset."""
    trips = _trips(uses)
    return {
        "from": iso_time(usage.begin, zone),
        "until": iso_time(usage.begin + usage.step * usage.steps, zone),
        "step": usage.step,
        "uses": [
            {
                **({"uplink": use.key.uplink} if use.key.uplink else {}),
                use.key.subject: use.key.name,
                "direction": use.key.direction,
                "bytes": use.whole.bytes,
                "packets": use.whole.packets,
                "drops": use.whole.drops,
                "marks": use.whole.marks,
                "mean": round(usage.mean(use)),
                "busiest": round(usage.busiest(use)),
                "busy": round(use.whole.busy / SECOND, 3),
                "delay": {"p50": use.whole.p50, "p95": use.whole.p95, "p99": use.whole.p99},
                **({"round_trip": seen} if any((seen := trips[use.key.uplink, use.key.name]).values()) else {}),
                "course": [round(usage.rate(size)) for size in use.course],
            }
            for use in uses
        ],
    }


def usage_csv(usage: Usage, uses: Sequence[Use], zone: tzinfo = UTC) -> str:
    """One row for each step, subject and direction with traffic (RFC 4180); `rate` in bit/s."""
    text = StringIO()
    writer = csv.writer(text)
    writer.writerow(("from", "uplink", "subject", "name", "direction", "bytes", "rate"))
    for index in range(usage.steps):
        for use in uses:
            if use.course[index]:
                key, size = use.key, use.course[index]
                at = iso_time(usage.begin + index * usage.step, zone)
                writer.writerow((at, key.uplink, key.subject, key.name, key.direction, size, round(usage.rate(size))))
    return text.getvalue()

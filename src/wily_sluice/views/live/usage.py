"""What was used over a stretch of time, as a table, as CSV and as data."""

import csv
from collections.abc import Sequence
from datetime import UTC, datetime
from io import StringIO
from itertools import pairwise
from typing import Any

from rich.table import Table

from wily_sluice.history.usage import Usage, Use
from wily_sluice.units import DIRECTIONS, MILLISECOND, SECOND, format_rate, format_size, format_time
from wily_sluice.views.text.bars import sparkline

COLUMNS = 24  # of a sparkline
STEP_NAMES = {1: "second", 60: "minute", 3600: "hour"}


def usage_table(usage: Usage, uses: Sequence[Use]) -> Table:
    """A row for each subject and direction, with its course beside those of the same direction."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("", "", "moved", "mean", f"busiest {STEP_NAMES[usage.step]}", "drops", "delay p99", "history"):
        table.add_column(name, justify="left" if name in ("", "history") else "right", no_wrap=True)
    courses = [(use.key.direction, squeezed(use.course, COLUMNS)) for use in uses]
    busiest = {way: max((max(course) for of, course in courses if of == way), default=0) or 1 for way in DIRECTIONS}
    before = None
    for use, (_, course) in zip(uses, courses, strict=True):
        name = _name(use)
        table.add_row(
            "" if name == before else name,
            use.key.direction,
            format_size(use.whole.bytes),
            _short(usage.mean(use)),
            _short(usage.busiest(use)),
            f"{use.whole.drops:,}" if use.whole.drops else "",
            format_time(use.whole.p99) if use.whole.p99 > MILLISECOND else "",
            sparkline(course, busiest[use.key.direction]),
        )
        before = name
    return table


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


def usage_data(usage: Usage, uses: Sequence[Use]) -> dict[str, Any]:
    """For JSON: bytes, bit/s, seconds; `course` is bit/s in each step."""
    return {
        "from": _moment(usage.begin),
        "until": _moment(usage.begin + usage.step * usage.steps),
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
                "course": [round(usage.rate(size)) for size in use.course],
            }
            for use in uses
        ],
    }


def usage_csv(usage: Usage, uses: Sequence[Use]) -> str:
    """A row for each step, subject and direction in which something was sent (RFC 4180); `rate` in bit/s."""
    text = StringIO()
    writer = csv.writer(text)
    writer.writerow(("from", "uplink", "subject", "name", "direction", "bytes", "rate"))
    for index in range(usage.steps):
        for use in uses:
            if use.course[index]:
                key, size = use.key, use.course[index]
                at = _moment(usage.begin + index * usage.step)
                writer.writerow((at, key.uplink, key.subject, key.name, key.direction, size, round(usage.rate(size))))
    return text.getvalue()


def _moment(at: int) -> str:
    return datetime.fromtimestamp(at, UTC).isoformat().replace("+00:00", "Z")

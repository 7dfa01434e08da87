"""A report as one HTML page that needs nothing else: no script, no network, pictures inside."""

from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from jinja2 import Environment, PackageLoader, StrictUndefined

from wily_sluice.history.stores import SLOWER, LineMeasurement
from wily_sluice.units import DIRECTIONS, Rate, format_rate, format_size, format_time
from wily_sluice.views.report.contents import QueueRow, Report, UseRow, busy_hours
from wily_sluice.views.report.figures import heat_map, line_figure, queue_figure


def page(report: Report) -> str:
    """The page."""
    templates = Environment(
        loader=PackageLoader("wily_sluice.views.report", ""),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    blocks, heats = [], []
    for uplink in report.plan.uplinks:
        for way in DIRECTIONS:
            rows = [
                queue
                for queue in report.queues
                if (queue.uplink, queue.direction) == (uplink.name, way) and queue.bytes
            ]
            if not rows:
                continue
            figures = [
                {
                    "path": row.path,
                    "words": f"{_size(row.bytes)}, busiest {_rate(row.busiest)}",
                    "svg": queue_figure(report, row),
                }
                for row in rows
            ]
            block = {"uplink": uplink.name, "way": way, "figures": figures, "rows": [_queue(row) for row in rows]}
            blocks.append(block)
            hours = busy_hours(report, uplink.name, way)
            heats.append({"name": f"{uplink.name} {way}", "svg": heat_map(report, uplink.name, way, hours)})
    step = report.period.step
    return templates.get_template("page.html.j2").render(
        report=report,
        span=f"{_moment(report, report.period.begin):%d %b} to {_moment(report, report.period.end):%d %b %Y}",
        begin=f"{_moment(report, report.period.begin):%a %d %b %Y %H:%M}",
        end=f"{_moment(report, report.period.end):%a %d %b %Y %H:%M}",
        step="an hour" if step == 3600 else "a minute" if step == 60 else f"{step} s",
        lines=list(_lines(report)),
        blocks=blocks,
        heats=heats,
        uses=[
            {
                "title": title,
                "what": what,
                "rows": [_use(row) for row in rows],
                "trips": any(row.beyond for row in rows),
            }
            for title, what, rows in (
                ("Who used it", "host", report.hosts),
                ("Used for", "service", report.services),
            )
        ],
        limiters=[
            {
                "name": f"{row.name}, {row.direction}",
                "rate": format_rate(row.rate),
                "moved": _size(row.bytes),
                "drops": f"{row.drops:,}",
                "bit": f"{row.bit} of {report.period.steps} steps",
            }
            for row in report.limiters
        ],
        measurements=[_measurement(report, measurement) for measurement in report.measurements],
        quotas=[
            {
                "name": row.name,
                "since": row.since,
                "quota": _size(row.quota),
                "who": row.who if row.used else "–",
                "used": _size(row.used),
                "part": f"{row.used / row.quota:.0%}",
            }
            for row in report.quotas
        ],
        marks=[
            {"at": f"{_moment(report, mark.at):%a %d %b %H:%M}", "number": mark.number, "words": mark.words}
            for mark in report.marks
        ],
        findings=report.findings,
    )


def _lines(report: Report) -> Any:
    for uplink in report.plan.uplinks:
        for way in DIRECTIONS:
            own = [queue for queue in report.queues if (queue.uplink, queue.direction) == (uplink.name, way)]
            if own:
                course = [sum(use.series.bytes[step] for use in own) for step in range(report.period.steps)]
                yield {
                    "name": f"{uplink.name} {way}",
                    "moved": _size(sum(course)),
                    "mean": _rate(sum(use.mean for use in own)),
                    "busiest": _rate(report.period.rate(max(course))),
                    "usable": _rate(uplink.usable(way)),
                    "svg": line_figure(
                        report, uplink.name, way, [report.period.rate(size) for size in course], uplink.usable(way)
                    ),
                }


def _moment(report: Report, at: int) -> datetime:
    return datetime.fromtimestamp(at, ZoneInfo(report.plan.timezone))


def _rate(rate: float | Rate) -> str:
    return format_rate(float(f"{rate:.3g}")) if rate else "–"


def _size(size: int) -> str:
    return format_size(float(f"{size:.3g}")) if size else "–"


def _queue(row: QueueRow) -> dict[str, str]:
    return {
        "path": row.path,
        "moved": _size(row.bytes),
        "mean": _rate(row.mean),
        "busiest": _rate(row.busiest),
        "full": _rate(row.full),
        "guarantee": _rate(row.guarantee),
        "cap": _rate(row.cap),
        "delay": format_time(row.p99) if row.p99 else "–",
        "drops": f"{row.drops:,}",
    }


def _use(row: UseRow) -> dict[str, str]:
    return {
        "name": row.name,
        "down": _size(row.down),
        "up": _size(row.up),
        "busiest": _rate(row.busiest),
        "beyond": _time(row.beyond),
    }


def _time(span: float | None) -> str:
    return format_time(span) if span else "–"


def _measurement(report: Report, measurement: LineMeasurement) -> dict[str, str | bool]:
    uplink = next((uplink for uplink in report.plan.uplinks if uplink.name == measurement.uplink), None)
    rates = {"down": measurement.down, "up": measurement.up}
    slower = uplink is not None and any(
        rate is not None and rate < SLOWER * uplink.usable(way)
        for way in DIRECTIONS
        if (rate := rates[way]) is not None
    )
    return {
        "name": measurement.uplink,
        "at": f"{_moment(report, measurement.at):%a %d %b %H:%M}",
        "down": _rate(measurement.down or 0),
        "up": _rate(measurement.up or 0),
        "idle": _time(measurement.idle),
        "buffer_down": _time(measurement.buffer_down),
        "buffer_up": _time(measurement.buffer_up),
        "responsiveness": f"{measurement.responsiveness:,.0f}" if measurement.responsiveness else "–",
        "slower": slower,
    }

"""The contents of a report, as plain figures that can be recalculated from its CSV files."""

import csv
from collections.abc import Callable, Iterable, Sequence
from dataclasses import astuple, dataclass, fields
from datetime import datetime
from ipaddress import ip_address
from pathlib import Path
from statistics import median
from typing import TypeAlias
from zoneinfo import ZoneInfo

from wily_sluice.forecast.split import split
from wily_sluice.history.counts import Key, Subject
from wily_sluice.history.revisions import Revision
from wily_sluice.history.stores import LineMeasurement
from wily_sluice.history.usage import Period, Series
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.groups.members import host_names
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.schedules.moment import period_start
from wily_sluice.units import DIRECTIONS, Direction, Nanoseconds, Rate, Size, iso_time

Used: TypeAlias = Callable[[str, str], dict[bytes, Size]]
SUBJECTS: tuple[Subject, ...] = ("uplink", "queue", "limiter", "host", "service", "rule")
MOST_ROWS = 15
BITES = 0.9  # of its rate: a limiter that carried so much in a step bit in it


@dataclass(frozen=True, slots=True)
class QueueRow:
    """A leaf in one direction: its traffic, and the plan's figures. Rates in bit/s, the delay in ns.

    `full` is its forecast rate while all queues are full.
    """

    uplink: str
    direction: Direction
    path: str
    bytes: Size
    mean: float
    busiest: float
    guarantee: Rate
    cap: Rate
    full: float
    p99: Nanoseconds
    drops: int
    series: Series


@dataclass(frozen=True, slots=True)
class UseRow:
    """Who or what used the line: bytes each way, bit/s in the busiest step, and the median of the steps' round
    trips beyond the line in ns, 0 where none were seen.
    """

    name: str
    down: Size
    up: Size
    busiest: float
    beyond: Nanoseconds = 0


@dataclass(frozen=True, slots=True)
class LimiterRow:
    """A limiter in one direction: bytes, packets that it dropped, and in how many steps it bit."""

    name: str
    direction: Direction
    rate: Rate
    bytes: Size
    drops: int
    bit: int


@dataclass(frozen=True, slots=True)
class QuotaRow:
    """A limiter's quota in the period at the end: the largest users with their volume, in bytes."""

    name: str
    since: str
    quota: Size
    who: str
    used: Size


@dataclass(frozen=True, slots=True)
class Mark:
    """A revision that was applied: its number, when, and the note."""

    number: int
    at: int
    words: str


@dataclass(frozen=True, slots=True)
class Report:
    """All of it."""

    plan: Plan
    period: Period
    queues: tuple[QueueRow, ...]
    hosts: tuple[UseRow, ...]
    services: tuple[UseRow, ...]
    limiters: tuple[LimiterRow, ...]
    marks: tuple[Mark, ...]
    findings: tuple[Finding, ...]
    measurements: tuple[LineMeasurement, ...] = ()
    quotas: tuple[QuotaRow, ...] = ()


def gather(
    plan: Plan,
    period: Period,
    revisions: Iterable[Revision],
    findings: Sequence[Finding],
    measurements: Sequence[LineMeasurement] = (),
    used: Used | None = None,
) -> Report:
    """The gate's counters and events over a period. `used` returns the use of a limiter's quota in a period."""
    return Report(
        plan,
        period,
        tuple(_queues(plan, period)),
        tuple(_uses(period, "host", host_names(plan))),
        tuple(_uses(period, "service", {})),
        tuple(_limiters(plan, period)),
        tuple(_marks(period, revisions)),
        tuple(findings),
        tuple(measurements),
        tuple(_quotas(plan, period, used)) if used is not None else (),
    )


def _queues(plan: Plan, period: Period) -> Iterable[QueueRow]:
    empty = [0] * period.steps
    for uplink in plan.uplinks:
        for way in DIRECTIONS:
            root = resolve(plan, uplink, way)
            full = split(root, {})
            for leaf in root.leaves():
                key = Key("queue", uplink.name, way, leaf.path)
                series = period.series.get(key)
                if series is None:
                    continue
                yield QueueRow(
                    uplink.name,
                    way,
                    leaf.path,
                    series.whole.bytes,
                    period.mean(series),
                    period.busiest(series),
                    leaf.guarantee,
                    leaf.cap,
                    full[leaf.path].rate,
                    max(series.p99, default=0),
                    sum(series.drops or empty),
                    series,
                )


def _uses(period: Period, subject: Subject, names: dict[str, str]) -> Iterable[UseRow]:
    totals: dict[str, dict[Direction, list[Size]]] = {}
    trips: dict[str, list[Nanoseconds]] = {}
    for use in period.of(subject):
        name = names.get(use.key.name, use.key.name)
        courses = totals.setdefault(name, {way: [0] * period.steps for way in DIRECTIONS})
        trips.setdefault(name, []).extend(filter(None, use.beyond))
        course = courses[use.key.direction]
        courses[use.key.direction] = [a + b for a, b in zip(course, use.bytes, strict=True)]
    rows = [
        UseRow(
            name,
            sum(courses["down"]),
            sum(courses["up"]),
            period.rate(max(a + b for a, b in zip(courses["down"], courses["up"], strict=True))),
            round(median(trips[name] or [0])),
        )
        for name, courses in totals.items()
    ]
    return sorted(rows, key=lambda row: -(row.down + row.up))[:MOST_ROWS]


def _limiters(plan: Plan, period: Period) -> Iterable[LimiterRow]:
    for limiter in plan.limiters:
        for way in DIRECTIONS:
            rate = limiter.rate(way)
            uses = [use for use in period.of("limiter") if (use.key.name, use.key.direction) == (limiter.name, way)]
            if rate is None or not uses:
                continue
            bit = sum(
                any(use.drops[step] or period.rate(use.bytes[step]) >= BITES * rate for use in uses)
                for step in range(period.steps)
            )
            drops = sum(sum(use.drops) for use in uses)
            yield LimiterRow(limiter.name, way, rate, sum(use.whole.bytes for use in uses), drops, bit)


def _quotas(plan: Plan, period: Period, used: Used) -> Iterable[QuotaRow]:
    moment = datetime.fromtimestamp(period.end - 1, ZoneInfo(plan.timezone))
    names = host_names(plan)
    for limiter in plan.limiters:
        if limiter.quota is None or not limiter.enabled:
            continue
        since = period_start(limiter.quota.period, limiter.starts, moment).isoformat()
        accounts = used(limiter.name, since)
        account = max(accounts, key=lambda account: accounts[account], default=b"")
        who = str(ip_address(account)) if len(account) in (4, 16) else "all together"
        yield QuotaRow(limiter.name, since, limiter.quota.size, names.get(who, who), accounts.get(account, 0))


def _marks(period: Period, revisions: Iterable[Revision]) -> Iterable[Mark]:
    for revision in revisions:
        at = int(datetime.fromisoformat(revision.at.replace("Z", "+00:00")).timestamp())
        if period.begin <= at < period.end and revision.state in ("kept", "undone", "trial"):
            yield Mark(revision.number, at, f"{revision.state}{f': {revision.note}' if revision.note else ''}")


def busy_hours(report: Report, uplink: str, way: Direction) -> list[list[float]]:
    """The mean rate in bit/s of each hour of the day, for each day of the week from Monday, in the site's time."""
    zone, period = ZoneInfo(report.plan.timezone), report.period
    sums = [[0.0] * 24 for _ in range(7)]
    counts = [[0] * 24 for _ in range(7)]
    own = [queue for queue in report.queues if (queue.uplink, queue.direction) == (uplink, way)]
    for step in range(period.steps):
        at = datetime.fromtimestamp(period.begin + step * period.step, zone)
        sums[at.weekday()][at.hour] += sum(period.rate(use.series.bytes[step]) for use in own)
        counts[at.weekday()][at.hour] += 1
    return [
        [total / count if count else 0.0 for total, count in zip(*day, strict=True)]
        for day in zip(sums, counts, strict=True)
    ]


def write_csv(report: Report, folder: Path) -> list[Path]:
    """A file for each subject, with a row for each step with traffic; one of measurements, one of quotas. OSError."""
    columns = ("from", "seconds", "uplink", "name", "direction", "bytes", "p99_ns", "drops", "beyond_ns")
    tables: dict[str, tuple[Sequence[str], Iterable[Sequence[object]]]] = {
        subject: (columns, _steps(report.period, subject)) for subject in SUBJECTS
    }
    if report.measurements:
        named = tuple(field.name for field in fields(LineMeasurement))
        rows = [
            (measurement.uplink, iso_time(measurement.at), *astuple(measurement)[2:])
            for measurement in report.measurements
        ]
        tables["measurements"] = named, rows
    if report.quotas:
        tables["quotas"] = tuple(field.name for field in fields(QuotaRow)), map(astuple, report.quotas)
    folder.mkdir(parents=True, exist_ok=True)
    for name, (heading, uses) in tables.items():
        with (folder / f"{name}.csv").open("w", newline="") as file:
            writer = csv.writer(file)
            writer.writerow(heading)
            writer.writerows(uses)
    return [folder / f"{name}.csv" for name in tables]


def _steps(period: Period, subject: Subject) -> Iterable[Sequence[object]]:
    for use in period.of(subject):
        key = use.key
        for step, size in enumerate(use.bytes):
            if size or use.drops[step]:
                at = iso_time(period.begin + step * period.step)
                counts = (size, use.p99[step], use.drops[step], use.beyond[step])
                yield at, period.step, key.uplink, key.name, key.direction, *counts

"""Stored in SQLite apart from the counters: events, measurements, use of quotas, and contacts.

What happened around a gate, in SQLite: uplinks that went and came back, routes, mappings, chains that were removed.

The last MOST_EVENTS are kept, each with its moment in seconds since 1970, and its details as JSON.

Measurements of lines, stored in SQLite: the report shows them, and the gate sends a notice when a line has become
slower.

The use of quotas, in SQLite so that it survives the gate.

One row for each limiter, period and account; a period is the ISO date of its first day. Rows of past periods are kept
for a year. Commits use a write-ahead log, so a crash leaves the last commit.

Use is added in batches that each run of a gate numbers from 1. The number of the last batch is written with it, so a
batch that comes twice counts once.

Which names each host spoke with, by the hour, in SQLite: kept only while a plan asks for it, and as long as it says.

A row says that a host spoke with a name within an hour, in seconds since 1970; how much or how often is not kept. What
is past its time is overwritten with zeros, not only marked as free (`secure_delete`).
"""

import json
from collections.abc import Iterable, Iterator
from contextlib import closing, suppress
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, NamedTuple

from wily_sluice.history.database import CONTACTS, EVENTS, MEASUREMENTS, QUOTAS, closed_on_failure, open_database
from wily_sluice.units import SECOND, Nanoseconds, Size

MOST_EVENTS = 10_000
_EVENTS = (
    "create table if not exists happened (number integer primary key, at real not null, event text not null, "
    "about text not null)",
)


class Happened(NamedTuple):
    """An event of the log, and its details."""

    at: float
    event: str
    about: dict[str, Any]


class EventStore:
    """A database in a folder, made where there is none. OSError or sqlite3.Error when it cannot be."""

    def __init__(self, folder: Path, patience: float = 1) -> None:
        self._database = open_database(folder / EVENTS, _EVENTS, patience)

    def add(self, happened: Iterable[Happened]) -> None:
        """Some more, in one step."""
        rows = [(each.at, each.event, json.dumps(dict(each.about))) for each in happened]
        with self._database:
            self._database.executemany("insert into happened (at, event, about) values (?, ?, ?)", rows)
            self._database.execute(
                "delete from happened where number <= (select max(number) from happened) - ?", (MOST_EVENTS,)
            )

    def last(self, rows: int) -> Iterator[Happened]:
        """The latest first, so many at most."""
        latest = self._database.execute("select at, event, about from happened order by number desc limit ?", (rows,))
        return (Happened(at, event, json.loads(about)) for at, event, about in latest)

    def close(self) -> None:
        """Close the database."""
        self._database.close()


_MEASUREMENTS = (
    """
    create table if not exists measurement (
        uplink text not null, at integer not null, data text not null, primary key (uplink, at)
    ) without rowid
    """,
)
SLOWER = 0.95  # of what the plan uses: less is a slower line
FEWEST_MEASUREMENTS, FEWEST_PERIODS = 10_000, 400  # that stay, whatever a clock says that was set
MEASUREMENTS_KEPT = 3660 * 86_400  # seconds


@dataclass(frozen=True, slots=True)
class LineMeasurement:
    """A measurement of an uplink, at a time in seconds since 1970: rates of the line in bit/s, the idle round trip and
    the delay of a full buffer in ns, and round trips a minute under load; None if not measured.
    """

    uplink: str
    at: int
    down: float | None = None
    up: float | None = None
    idle: Nanoseconds | None = None
    buffer_down: float | None = None
    buffer_up: float | None = None
    responsiveness: float | None = None


class MeasurementStore:
    """A database in a folder, made where there is none. OSError or sqlite3.Error when it cannot be."""

    def __init__(self, folder: Path, patience: float = 1.0) -> None:
        self._database = open_database(folder / MEASUREMENTS, _MEASUREMENTS, patience, ("journal_mode = wal",))

    def add(self, measurement: LineMeasurement) -> None:
        """Store it; entries older than ten years are deleted."""
        known = {name: value for name, value in asdict(measurement).items() if value is not None}
        data = {name: value for name, value in known.items() if name not in ("uplink", "at")}
        with self._database:
            self._database.execute(
                "delete from measurement where at < ? and at < (select at from measurement order by at desc limit 1 "
                "offset ?)",
                (measurement.at - MEASUREMENTS_KEPT, FEWEST_MEASUREMENTS),
            )
            row = (measurement.uplink, measurement.at, json.dumps(data))
            self._database.execute("insert or replace into measurement values (?, ?, ?)", row)

    def between(self, begin: int, end: int) -> list[LineMeasurement]:
        """Those from a moment to before another, the earliest first."""
        rows = self._database.execute(
            "select uplink, at, data from measurement where at >= ? and at < ? order by at, uplink", (begin, end)
        )
        with closing(rows):
            return [LineMeasurement(uplink, at, **json.loads(data)) for uplink, at, data in rows]

    def close(self) -> None:
        """Close the database."""
        self._database.close()


_QUOTAS = (
    """
    create table if not exists quota (
        limiter text not null, period text not null, key blob not null, used integer not null,
        primary key (limiter, period, key)
    ) without rowid
    """,
    """
    create table if not exists written (run text primary key, batch integer not null, day text not null) without rowid
    """,
)


class QuotaStore:
    """A database in a folder, made where there is none. OSError or sqlite3.Error when it cannot be."""

    def __init__(self, folder: Path, patience: float = 5.0) -> None:
        self.path = folder / QUOTAS
        self._database = open_database(self.path, _QUOTAS, patience, ("journal_mode = wal", "synchronous = normal"))
        with closed_on_failure(self._database), self._database:
            self._database.execute(
                "delete from quota where period < date('now', '-400 days') and period not in "
                "(select distinct period from quota order by period desc limit ?)",
                (FEWEST_PERIODS,),
            )
            self._database.execute("delete from written where day < date('now', '-30 days')")

    def used(self, limiter: str, period: str) -> dict[bytes, Size]:
        """The use of each account in a period."""
        rows = self._database.execute("select key, used from quota where limiter = ? and period = ?", (limiter, period))
        with closing(rows):
            return {bytes(key): used for key, used in rows}

    def add(self, run: str, batch: int, used: Iterable[tuple[str, str, bytes, Size]]) -> None:
        """Add use: limiter, period, account, bytes; unless this batch of this run, or a later one, was added."""
        with self._database:
            last = self._database.execute("select batch from written where run = ?", (run,)).fetchone()
            if last is not None and last[0] >= batch:
                return
            self._database.executemany(
                "insert into quota values (?, ?, ?, ?) "
                "on conflict (limiter, period, key) do update set used = used + excluded.used",
                used,
            )
            self._database.execute("insert or replace into written values (?, ?, date('now'))", (run, batch))

    def close(self) -> None:
        """Close the database."""
        self._database.close()


HOUR = 3600  # seconds
_CONTACTS = (
    """
    create table if not exists spoke (
        hour integer not null, host text not null, name text not null, primary key (hour, host, name)
    ) without rowid
    """,
)


class Contact(NamedTuple):
    """A host, a name, the first and the last hour of contact, and the number of hours."""

    host: str
    name: str
    first: int
    last: int
    hours: int


class ContactStore:
    """A database in a folder, made where there is none. OSError or sqlite3.Error when it cannot be."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / CONTACTS
        self._database = open_database(self.path, _CONTACTS, 1, ("secure_delete = on",))

    def add(self, at: int, kept: Nanoseconds, spoken: Iterable[tuple[str, str]]) -> None:
        """Add hosts with names at a time; entries older than their retention are deleted."""
        hour = at - at % HOUR
        with self._database:
            self._database.executemany(
                "insert or ignore into spoke values (?, ?, ?)", ((hour, host, name) for host, name in spoken)
            )
            self._database.execute("delete from spoke where hour + ? <= ?", (HOUR, at - kept // SECOND))

    def read(self, host: str | None = None) -> Iterator[Contact]:
        """The stored contacts of all hosts or of one, latest first."""
        rows = self._database.execute(
            "select host, name, min(hour), max(hour), count(*) from spoke where ?1 is null or host = ?1 "
            "group by host, name order by max(hour) desc, host, name",
            (host,),
        )
        return (Contact(*row) for row in rows)

    def clear(self) -> None:
        """Delete everything."""
        with self._database:
            self._database.execute("delete from spoke")

    def close(self) -> None:
        """Close the database."""
        self._database.close()


def forget(folder: Path) -> None:
    """Delete everything, and store no more. sqlite3.Error or OSError on failure."""
    path = folder / CONTACTS
    if path.exists():
        store = ContactStore(folder)
        store.clear()
        store.close()
    for leftover in (path, path.with_name(CONTACTS + "-journal")):
        with suppress(FileNotFoundError):
            leftover.unlink()

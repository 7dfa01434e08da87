"""Counters in SQLite: seconds for an hour, minutes for a month, hours for ten years.

A row is a span of one of these resolutions: its start, in seconds since 1970, the gate's run, and the counters as JSON
compressed by zlib (RFC 1950): a list of the subjects, the words of each joined by tabs, and a list of columns in the
order of FIELDS, each with a number for every subject. Delays are bin numbers of the histogram (`engine.tally`). A
second of a hundred busy queues and hosts takes one or two kilobytes. Rows older than the retention of their resolution
are deleted.

The current minute and hour are rewritten, so a kill loses some seconds of the one and a minute of the other. Every
start begins a new run, and so does a clock that steps back, so that no row is overwritten.

The file never grows beyond MOST_BYTES: before it would, the oldest of the finest rows are deleted.
"""

import json
import sqlite3
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import groupby
from operator import itemgetter
from pathlib import Path
from typing import Literal, TypeAlias

from wily_sluice.engine.tally import step_end, step_of
from wily_sluice.history.counts import Counts, Key
from wily_sluice.history.database import COUNTERS, closed_on_failure, open_database
from wily_sluice.units import MILLISECOND, Nanoseconds, Size

Resolution: TypeAlias = Literal["second", "minute", "hour"]
SPANS: dict[Resolution, int] = {"second": 1, "minute": 60, "hour": 3600}
KEPT: dict[Resolution, int] = {"second": 3600, "minute": 31 * 86_400, "hour": 3660 * 86_400}  # seconds
# `busy` in milliseconds, `p50` to `p99` as numbers of steps, -1 where nothing waited; `beyond` and `inside`, which rows
# of an earlier program lack, as round trips in microseconds; the rest as in Counts.
FIELDS = (
    "bytes", "packets", "drops", "marks", "backlog", "waiting", "busy", "framed", "payload", "p50", "p95", "p99",
    "beyond", "inside",
)  # fmt: skip
DELAYS = FIELDS.index("p50")
MICROSECOND: Nanoseconds = 1000
MOST_BYTES: Size = 512_000_000
PAGE: Size = 4096
MOST_KEYS = 4096  # in a span; further hosts are counted together
OTHERS = "(others)"
LONGEST = 60.0  # seconds over which what was counted late is spread
COMMIT_EVERY = 5  # seconds
MOST_WAITING = 600  # rows that could not be written yet

_SCHEMA = (
    """
    create table if not exists spans (
        resolution text not null, begin integer not null, run integer not null, data blob not null,
        primary key (resolution, begin, run)
    )
    """,
)
_PRAGMAS = (f"page_size = {PAGE}", "journal_mode = wal", "synchronous = normal", "journal_size_limit = 1000000")


@dataclass(frozen=True, slots=True)
class Sample:
    """The stored counters of one subject in a span. Delays are in ns, 0 if no packet waited; so are round trips, beyond
    the line and inside the house.
    """

    bytes: Size
    packets: int
    drops: int
    marks: int
    backlog: Size
    waiting: int
    busy: Nanoseconds
    framed: Size
    payload: Size
    p50: Nanoseconds
    p95: Nanoseconds
    p99: Nanoseconds
    beyond: Nanoseconds = 0
    inside: Nanoseconds = 0

    def then(self, later: "Sample") -> "Sample":
        """Merge with a later sample of the same subject: the later backlog, the longer delay, the mean round trip by
        packets.
        """
        return Sample(
            self.bytes + later.bytes,
            self.packets + later.packets,
            self.drops + later.drops,
            self.marks + later.marks,
            later.backlog,
            later.waiting,
            self.busy + later.busy,
            self.framed + later.framed,
            self.payload + later.payload,
            max(self.p50, later.p50),
            max(self.p95, later.p95),
            max(self.p99, later.p99),
            _between(self.beyond, self.packets, later.beyond, later.packets),
            _between(self.inside, self.packets, later.inside, later.packets),
        )


def _between(first: Nanoseconds, packets: int, other: Nanoseconds, others: int) -> Nanoseconds:
    if not first or not other:
        return first or other
    return (first * packets + other * others) // max(1, packets + others)


@dataclass(slots=True)
class _Span:
    begin: int
    counts: dict[Key, Counts]


class CounterReader:
    """Reads a folder's database, even while a gate writes it. sqlite3.Error if it cannot be read."""

    def __init__(self, folder: Path, patience: float = 1.0, write: bool = False) -> None:
        self.path = folder / COUNTERS
        if write:
            pragmas = (*_PRAGMAS, f"max_page_count = {MOST_BYTES // PAGE}")
            self._database = open_database(self.path, _SCHEMA, patience, pragmas)
        else:
            self._database = sqlite3.connect(f"{self.path.absolute().as_uri()}?mode=rw", timeout=patience, uri=True)

    def read(self, resolution: Resolution, begin: int, end: int) -> Iterator[tuple[int, dict[Key, Sample]]]:
        """The spans that begin from `begin` up to before `end`, in their order."""
        rows = self._database.execute(
            "select begin, data from spans where resolution = ? and begin >= ? and begin < ? order by begin, run",
            (resolution, begin, end),
        )
        for at, runs in groupby(rows, key=itemgetter(0)):
            samples: dict[Key, Sample] = {}
            for _, data in runs:
                for key, sample in _unpacked(data).items():
                    samples[key] = samples[key].then(sample) if key in samples else sample
            yield at, samples

    def close(self) -> None:
        """Close it."""
        self._database.close()


class CounterStore(CounterReader):
    """A folder's database, created if needed. OSError or sqlite3.Error if it cannot be opened.

    If the process is killed, the counters since the last row was written are lost: a few seconds.
    """

    def __init__(self, folder: Path, patience: float = 1.0) -> None:
        super().__init__(folder, patience, write=True)
        with closed_on_failure(self._database):
            self._run = self._next_run()
        self._open: dict[Resolution, _Span] = {}
        self._waiting: list[tuple[Resolution, int, int, bytes]] = []
        self._latest = 0
        self._flushed = 0

    def _next_run(self) -> int:
        run: int = self._database.execute("pragma user_version").fetchone()[0] + 1
        with self._database:
            self._database.execute(f"pragma user_version = {run}")
        return run

    def add(self, until: float, counts: dict[Key, Counts], lasted: float = 0.0) -> bool:
        """Add the counters of a time that lasted this many seconds until then: each second gets its share. Without a
        length, all belong to the present second. True if a write was due and done.

        sqlite3.Error if it cannot be written; the next call tries again.
        """
        at = int(until)
        if at < self._latest:
            self._finish()
            self._run = self._next_run()
            self._latest = at
        first = max(self._latest, int(until - min(lasted, LONGEST)))
        ends = [min(1.0, max(0.0, 1 - (until - second - 1) / lasted)) for second in range(first, at)] if lasted else []
        parts = {key: own.parted([*ends, 1.0]) for key, own in counts.items()} if ends else {}
        for number, second in enumerate(range(first, at) if ends else ()):
            self._add(second, {key: pieces[number] for key, pieces in parts.items()})
        self._add(at, {key: pieces[-1] for key, pieces in parts.items()} if ends else counts)
        self._latest = at
        if not 0 <= at - self._flushed < COMMIT_EVERY:
            self._flushed = at
            self._write(at)
            return True
        return False

    def _add(self, at: int, counts: dict[Key, Counts]) -> None:
        for resolution in SPANS:
            self._gather(resolution, at, counts)

    def _finish(self) -> None:
        """Write the unfinished spans."""
        for resolution, span in self._open.items():
            self._waiting.append((resolution, span.begin, self._run, _packed(span.counts)))
        self._open.clear()

    def _gather(self, resolution: Resolution, at: int, counts: dict[Key, Counts]) -> None:
        begin = at - at % SPANS[resolution]
        span = self._open.get(resolution)
        if span is not None and span.begin != begin:
            self._waiting.append((resolution, span.begin, self._run, _packed(span.counts)))
            span = None
            if resolution == "minute" and "hour" in self._open:
                hour = self._open["hour"]
                self._waiting.append(("hour", hour.begin, self._run, _packed(hour.counts)))
        if span is None:
            span = self._open[resolution] = _Span(begin, {})
        for key, own in counts.items():
            if len(span.counts) >= MOST_KEYS and key.subject == "host" and key not in span.counts:
                span.counts.setdefault(Key("host", "", key.direction, OTHERS), Counts()).add(own)
            else:
                span.counts.setdefault(key, Counts()).then(own)

    def _write(self, at: int) -> None:
        """Write the rows that wait, and delete those that are too old."""
        del self._waiting[:-MOST_WAITING]
        rows = list(self._waiting)
        if "minute" in self._open:
            minute = self._open["minute"]
            rows.append(("minute", minute.begin, self._run, _packed(minute.counts)))
        for _ in range(3):
            try:
                with self._database:
                    for resolution, kept in KEPT.items():
                        # A clock that was set may say that all is old: the latest rows stay, as many as there may be.
                        self._database.execute(
                            "delete from spans where resolution = ?1 and begin < ?2 and begin < (select begin from "
                            "spans where resolution = ?1 order by begin desc limit 1 offset ?3)",
                            (resolution, at - kept, kept // SPANS[resolution]),
                        )
                    self._database.executemany("insert or replace into spans values (?, ?, ?, ?)", rows)
                self._waiting.clear()
                return
            except sqlite3.OperationalError as error:
                if "full" not in str(error) or not self._shrink():
                    raise

    def _shrink(self) -> bool:
        """Delete the oldest tenth of the finest rows. False when nothing is left to delete."""
        for resolution in KEPT:
            with self._database:
                gone = self._database.execute(
                    "delete from spans where resolution = ?1 and begin <= (select begin from spans "
                    "where resolution = ?1 order by begin limit 1 offset "
                    "(select count(*) / 10 from spans where resolution = ?1))",
                    (resolution,),
                ).rowcount
            if gone:
                return True
        return False

    def close(self) -> None:
        """Write the rows that wait, and the unfinished spans, and close."""
        try:
            self._finish()
            self._write(self._latest)
        finally:
            super().close()


def _packed(counts: Mapping[Key, Counts]) -> bytes:
    subjects = ["\t".join(key) for key in counts]
    columns = list(zip(*map(_numbers, counts.values()), strict=True))
    return zlib.compress(json.dumps([subjects, columns], ensure_ascii=False, separators=(",", ":")).encode(), 9)


def _numbers(own: Counts) -> list[int]:
    delays = [step_of(own.delay(part) - 1) if own.waits else -1 for part in (0.5, 0.95, 0.99)]
    trips = [(own.round_trip(beyond) or 0) // MICROSECOND for beyond in (True, False)]
    return [
        own.bytes, own.packets, own.drops, own.marks, own.backlog, own.waiting, own.busy // MILLISECOND, own.framed,
        own.payload, *delays, *trips,
    ]  # fmt: skip


def _unpacked(data: bytes) -> dict[Key, Sample]:
    subjects, columns = json.loads(zlib.decompress(data))
    keys = {}
    for words, numbers in zip(subjects, zip(*columns, strict=True), strict=True):
        counts, trips = list(numbers[:DELAYS]), numbers[DELAYS + 3 :]
        counts[FIELDS.index("busy")] *= MILLISECOND
        delays = [step_end(step) if step >= 0 else 0 for step in numbers[DELAYS : DELAYS + 3]]
        keys[Key(*words.split("\t", 3))] = Sample(*counts, *delays, *(trip * MICROSECOND for trip in trips))
    return keys

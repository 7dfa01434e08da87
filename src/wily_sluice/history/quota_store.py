"""The use of quotas, in SQLite so that it survives the gate.

One row for each limiter, period and account; a period is the ISO date of its first day. Rows of past periods are kept
for a year. Commits use a write-ahead log, so a crash leaves the last commit.

Use is added in batches that each run of a gate numbers from 1. The number of the last batch is written with it, so a
batch that comes twice counts once.
"""

from collections.abc import Iterable
from contextlib import closing
from pathlib import Path

from wily_sluice.history.database import QUOTAS, open_database
from wily_sluice.units import Size

_SCHEMA = (
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
        self._database = open_database(self.path, _SCHEMA, patience, ("journal_mode = wal", "synchronous = normal"))
        with self._database:
            self._database.execute("delete from quota where period < date('now', '-400 days')")
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

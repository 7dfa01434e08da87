"""What was used of quotas, kept in SQLite so that it survives the gate.

One row for each limiter, period and account; a period is the ISO date of its first day. Rows of periods that are over
are kept for a year. A commit is written ahead of the database itself, so a crash leaves what was committed last.
"""

from collections.abc import Iterable
from contextlib import closing
from pathlib import Path

from wily_sluice.history.private import private_database
from wily_sluice.units import Size

_SCHEMA = """
    create table if not exists quota (
        limiter text not null, period text not null, key blob not null, used integer not null,
        primary key (limiter, period, key)
    ) without rowid
"""


class QuotaStore:
    """A database in a folder, made where there is none. OSError or sqlite3.Error when it cannot be."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / "counters.sqlite"
        self._database = private_database(self.path, 5)
        self._database.execute("pragma journal_mode = wal")
        self._database.execute("pragma synchronous = normal")
        self._database.execute(_SCHEMA)
        self._database.execute("delete from quota where period < date('now', '-400 days')")
        self._database.commit()

    def used(self, limiter: str, period: str) -> dict[bytes, Size]:
        """What each account has used in a period."""
        rows = self._database.execute("select key, used from quota where limiter = ? and period = ?", (limiter, period))
        with closing(rows):
            return {bytes(key): used for key, used in rows}

    def keep(self, changes: Iterable[tuple[str, str, bytes, Size]]) -> None:
        """Write what was used: limiter, period, account, bytes."""
        with self._database:
            self._database.executemany("insert or replace into quota values (?, ?, ?, ?)", changes)

    def close(self) -> None:
        """Close the database."""
        self._database.close()

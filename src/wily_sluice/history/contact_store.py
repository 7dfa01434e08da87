"""Which names each host spoke with, by the hour, in SQLite: kept only while a plan asks for it, and as long as it says.

A row says that a host spoke with a name within an hour, in seconds since 1970; how much or how often is not kept. What
is past its time is overwritten with zeros, not only marked as free (`secure_delete`).
"""

from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from wily_sluice.history.database import CONTACTS, open_database
from wily_sluice.units import SECOND, Nanoseconds

HOUR = 3600  # seconds

_SCHEMA = (
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
        self._database = open_database(self.path, _SCHEMA, 1, ("secure_delete = on",))

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

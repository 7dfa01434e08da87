"""What happened around a gate, in SQLite: uplinks that went and came back, routes, mappings, chains that were removed.

The last MOST are kept, each with its moment in seconds since 1970, and its details as JSON.
"""

import json
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, NamedTuple

from wily_sluice.history.database import EVENTS, open_database

MOST = 10_000

_SCHEMA = (
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
        self._database = open_database(folder / EVENTS, _SCHEMA, patience)

    def add(self, at: float, event: str, about: Mapping[str, Any]) -> None:
        """One more."""
        with self._database:
            row = self._database.execute(
                "insert into happened (at, event, about) values (?, ?, ?)", (at, event, json.dumps(dict(about)))
            )
            self._database.execute("delete from happened where number <= ?", ((row.lastrowid or 0) - MOST,))

    def last(self, rows: int) -> Iterator[Happened]:
        """The latest first, so many at most."""
        found = self._database.execute("select at, event, about from happened order by number desc limit ?", (rows,))
        return (Happened(at, event, json.loads(about)) for at, event, about in found)

    def close(self) -> None:
        """Close the database."""
        self._database.close()

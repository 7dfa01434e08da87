"""Measurements of lines, stored in SQLite: the report shows them, and the gate sends a notice when a line has become
slower.
"""

import json
from contextlib import closing
from dataclasses import asdict, dataclass
from pathlib import Path

from wily_sluice.history.database import MEASUREMENTS, open_database
from wily_sluice.units import Nanoseconds

_SCHEMA = (
    """
    create table if not exists measurement (
        uplink text not null, at integer not null, data text not null, primary key (uplink, at)
    ) without rowid
    """,
)
SLOWER = 0.95  # of what the plan uses: less is a slower line
KEPT = 3660 * 86_400  # seconds


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
        self._database = open_database(folder / MEASUREMENTS, _SCHEMA, patience, ("journal_mode = wal",))

    def add(self, one: LineMeasurement) -> None:
        """Store it; entries older than ten years are deleted."""
        known = {name: value for name, value in asdict(one).items() if value is not None}
        data = {name: value for name, value in known.items() if name not in ("uplink", "at")}
        with self._database:
            self._database.execute("delete from measurement where at < ?", (one.at - KEPT,))
            row = (one.uplink, one.at, json.dumps(data))
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

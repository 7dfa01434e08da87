"""Which names hosts spoke with, as a table and as data."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from rich.table import Table

from wily_sluice.history.contact_store import HOUR, Contact


def contacts_data(found: Sequence[Contact]) -> list[dict[str, Any]]:
    """For JSON: moments in UTC (RFC 3339), of the beginning of the first hour and of the end of the last."""
    return [
        {
            "host": one.host,
            "name": one.name,
            "from": _moment(one.first).isoformat().replace("+00:00", "Z"),
            "until": _moment(one.last + HOUR).isoformat().replace("+00:00", "Z"),
            "hours": one.hours,
        }
        for one in found
    ]


def contacts_table(found: Sequence[Contact]) -> Table:
    """A row for each host and name, in this machine's time."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("host", "spoke with", "from", "until", "in hours"):
        table.add_column(name, justify="right" if name == "in hours" else "left", no_wrap=name != "spoke with")
    for one in found:
        begin, end = (_moment(at).astimezone().strftime("%Y-%m-%d %H:%M") for at in (one.first, one.last + HOUR))
        table.add_row(one.host, one.name, begin, end, str(one.hours))
    return table


def _moment(at: int) -> datetime:
    return datetime.fromtimestamp(at, UTC)

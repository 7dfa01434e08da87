"""The ports that hosts have had opened, as a table."""

from collections.abc import Sequence
from typing import Any

from rich.table import Table

from wily_sluice.views.live.status import span_words


def mappings_table(rows: Sequence[dict[str, Any]]) -> Table:
    """One row for each, the same host's together."""
    table = Table(box=None, pad_edge=False, header_style="bold")
    for title, right in (("Host", False), ("Port", True), ("Outside", True), ("Uplink", False), ("For", False)):
        table.add_column(title, justify="right" if right else "left", overflow="fold")
    table.add_column("Asked by")
    table.add_column("Left", justify="right")
    for one in sorted(rows, key=lambda one: (one["host"], one["protocol"], one["inside"])):
        host = f"{one['name']} ({one['host']})" if one["name"] else one["host"]
        same = one["address"] == one["host"]
        table.add_row(
            host,
            f"{one['inside']}/{one['protocol']}",
            str(one["outside"]) if same else f"{one['address']}:{one['outside']}",
            one["uplink"],
            one["service"] or one["grant"],
            one["by"],
            span_words(one["left"]),
        )
    return table

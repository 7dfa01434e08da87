"""Records as CSV (RFC 4180): what stands in them stays, and what they have within becomes columns of its own."""

import csv
from collections.abc import Iterable, Iterator, Mapping
from io import StringIO
from typing import Any


def records_csv(records: Iterable[Mapping[str, Any]]) -> str:
    """A row for each record, below a heading of all that any of them has. `delay.p50` is what `delay` has as `p50`; a
    list is joined by blanks, and what is not known is empty.
    """
    rows = [dict(_flat(record)) for record in records]
    heading = list(dict.fromkeys(name for row in rows for name in row))
    text = StringIO()
    writer = csv.DictWriter(text, heading, restval="")
    writer.writeheader()
    writer.writerows(rows)
    return text.getvalue()


def _flat(record: Mapping[str, Any], above: str = "") -> Iterator[tuple[str, Any]]:
    for name, value in record.items():
        if isinstance(value, Mapping):
            yield from _flat(value, f"{above}{name}.")
        elif isinstance(value, (list, tuple)):
            yield f"{above}{name}", " ".join(map(str, value))
        else:
            yield f"{above}{name}", "" if value is None else value

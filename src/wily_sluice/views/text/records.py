"""Records as CSV (RFC 4180): values stay as they are, and nested values become separate columns."""

import csv
from collections.abc import Iterable, Iterator, Mapping
from io import StringIO
from typing import Any


def records_csv(records: Iterable[Mapping[str, Any]]) -> str:
    """One row for each record, below a heading with all columns. `delay.p50` is the value `p50` in `delay`; a list is
    joined by blanks, and an unknown value is empty.
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

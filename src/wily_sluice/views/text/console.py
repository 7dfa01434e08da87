"""The terminal that results are printed on, plain in a pipe or a file; bars and arrows; records as CSV (RFC 4180).

A table that is wider than the terminal is folded, so that no name is cut; into a pipe it is as wide as it needs to be.
"""

import csv
import json
import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from io import StringIO
from typing import Any, Final

import click
from rich.console import Console, RenderableType
from rich.measure import Measurement
from rich.padding import Padding
from rich.table import Column, Table
from rich.text import Text

ARROWS: Final = {"down": "↓ down", "up": "↑ up"}
BAR = 16  # columns
EIGHTHS = " ▏▎▍▌▋▊▉█"
SPARKS = "▁▂▃▄▅▆▇█"


def bar(part: float, width: int = BAR) -> str:
    """A bar of `width` columns, filled to `part` (0 to 1) with a resolution of an eighth of a column."""
    eighths = round(part * width * 8)
    full, rest = divmod(eighths, 8)
    return ("█" * full + (EIGHTHS[rest] if rest else "")).ljust(width)


def range_bar(guaranteed: float, reachable: float, width: int = BAR) -> str:
    """A bar of `width` columns: full up to `guaranteed`, then thin up to `reachable`; both from 0 to 1.

    Values above 0 fill at least one column.
    """
    full = max(round(guaranteed * width), 1 if guaranteed > 0 else 0)
    reach = max(round(reachable * width), full, 1)
    return ("█" * full + "─" * (reach - full)).ljust(width)


def sparkline(values: Sequence[float], highest: float) -> str:
    """A character each: its height is the value's part of `highest`, and nothing is blank."""
    return "".join(" " if value <= 0 else SPARKS[min(7, int(value / highest * 8))] for value in values)


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


PIPE_WIDTH = 140  # columns, where no window sets a width
FOLDED_WIDTH = 12  # columns that a folded one needs at least


class Screen(Console):
    """A console on which tables are never cut."""

    def print(self, *objects: Any, **options: Any) -> None:
        """Print, with tables made to fit."""
        for table in (part for part in objects if isinstance(part, Table)):
            needed = needed_width(self, table)
            if needed <= self.width:
                continue
            if not self.is_terminal:
                options.setdefault("width", needed)
                continue
            for justify in ("left", "right"):  # names are folded before figures
                for column in (column for column in table.columns if column.justify == justify):
                    column.no_wrap, column.overflow = False, "fold"
                if needed_width(self, table) <= self.width:
                    break
        super().print(*objects, **options)


def needed_width(screen: Console, table: Table) -> int:
    """The columns that a table needs so that nothing is cut that may not be wrapped."""
    _, right, _, left = Padding.unpack(table.padding)
    edges = 2 * (table.box is not None)
    wide = screen.options.update(width=10_000)

    def width(cell: RenderableType, column: Column) -> int:
        measured = Measurement.get(screen, wide, cell)
        if column.no_wrap:
            return measured.maximum
        return min(measured.minimum, FOLDED_WIDTH) if column.overflow == "fold" else measured.minimum

    columns = (
        max((width(cell, column) for cell in (column.header, *column.cells) if cell != ""), default=0)
        for column in table.columns
    )
    return edges + sum(column + left + right for column in columns)


def fits(screen: Console, *tables: Table) -> bool:
    """Whether all these tables fit without folding."""
    return all(needed_width(screen, table) <= screen.width for table in tables)


def console(stderr: bool = False) -> Console:
    """A console on the standard output, or on the standard error."""
    stream = sys.stderr if stderr else sys.stdout
    width = None if stream.isatty() else PIPE_WIDTH
    return Screen(file=stream, highlight=False, width=width, emoji=False, markup=False)


def print_line(screen: Console, text: Text | str) -> None:
    """Print a line, wrapped between words on a terminal and left whole in a pipe or a file."""
    screen.print(text, soft_wrap=not screen.is_terminal)


def print_json(data: Any) -> None:
    """Print data as JSON (RFC 8259), in the order given."""
    click.echo(json.dumps(data, indent=2, ensure_ascii=False))

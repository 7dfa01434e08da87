"""The columns of a table, each declared once for the terminal, JSON and CSV."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from rich.table import Table
from rich.text import Text

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Column(Generic[T]):
    """A column of rows of one kind: `value` of a row, as data under `key`, and on a terminal under `heading`.

    Without a key it is not in the data, without a heading not in the table. `cell` makes the text in the table from a
    row; without it the table shows the value.
    """

    value: Callable[[T], Any]
    key: str | None = None
    heading: str | None = None
    cell: Callable[[T], str | Text] | None = None
    right: bool = False
    folds: bool = False


def records_of(columns: Iterable[Column[T]], rows: Iterable[T]) -> list[dict[str, Any]]:
    """The rows as data, for JSON and CSV."""
    keyed = [(column.key, column.value) for column in columns if column.key is not None]
    return [{key: value(row) for key, value in keyed} for row in rows]


def cells_of(columns: Iterable[Column[T]], row: T) -> list[str | Text]:
    """The texts of a row in the table; an unknown value is empty."""
    cells: list[str | Text] = []
    for column in columns:
        if column.heading is not None:
            value = column.value(row) if column.cell is None else column.cell(row)
            cells.append(value if isinstance(value, Text) else "" if value is None else str(value))
    return cells


def table_of(columns: Sequence[Column[T]], rows: Iterable[T]) -> Table:
    """The rows as a table, with a line of headings."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    for column in columns:
        if column.heading is not None:
            table.add_column(
                column.heading, justify="right" if column.right else "left", no_wrap=not column.folds, overflow="fold"
            )
    for row in rows:
        table.add_row(*cells_of(columns, row))
    return table

"""The cells of the live view: coloured text for each row and column.

The colours can be distinguished by colour-blind people (Okabe and Ito 2008), and carry no information beyond the text.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, TypeAlias

from rich.text import Text

from wily_sluice.units import MILLISECOND, Nanoseconds, format_rate, format_size, format_time, span_words
from wily_sluice.views.live.watch.state import KEPT, Page, Row, Sort, Watch

Column: TypeAlias = Literal["name", "rate", "bar", "backlog", "delay", "drops", "trip", "inside", "history"]
BLUE, ORANGE, RED, GREEN, PALE = "#56b4e9", "#e69f00", "#ff6e3a", "#2bb58c", "#5b636d"
SLOW: Nanoseconds = 20 * MILLISECOND  # a wait that calls and play begin to feel
LONG: Nanoseconds = 100 * MILLISECOND  # and one that everybody feels
HEADINGS: dict[Column, str] = {
    "rate": "rate",
    "backlog": "backlog",
    "delay": "delay",
    "drops": "drops",
    "trip": "round trip",
    "inside": "in house",
}
SORTED: dict[Sort, Column] = {
    "rate": "rate", "name": "name", "drops": "drops", "delay": "delay", "backlog": "backlog",
}  # fmt: skip
WIDTHS: dict[Column, int] = {"rate": 11, "backlog": 9, "delay": 8, "drops": 7, "trip": 11, "inside": 9}
LEAST_NAME, LONG_NAME, MOST_NAME = 16, 30, 46
LEAST_BAR, MOST_BAR = 10, 40
LEAST_HISTORY = 8
WIDE = 100  # columns of a screen that has room for everything
SPARKS = "▁▂▃▄▅▆▇"  # none as high as its line, so that histories do not touch


@dataclass(frozen=True, slots=True)
class Layout:
    """The width of each column, in their order; a leading blank included."""

    widths: dict[Column, int]

    @classmethod
    def of(cls, page: Page, width: int, longest: int = 0) -> "Layout":
        """Columns for a page on a screen of that width, with this length of the longest name."""
        columns: list[Column] = ["rate", "delay", "drops"]
        if width >= WIDE:
            columns.insert(1, "backlog")
            if page in ("hosts", "services", "rules"):
                columns += ["trip", "inside"]
        room = width - sum(WIDTHS[column] for column in columns)
        least = LEAST_NAME if page == "queues" else max(LEAST_NAME, min(LONG_NAME, room - LEAST_HISTORY))
        name = min(MOST_NAME, room, max(least, room * 2 // 5, longest + 2))  # an address is never cut for a bar
        room -= name
        if room < LEAST_HISTORY:
            return cls({"name": max(1, name + max(0, room)), **{column: WIDTHS[column] for column in columns}})
        bar = min(MOST_BAR, max(LEAST_BAR, room // 2)) if room >= LEAST_BAR + LEAST_HISTORY else 0
        widths: dict[Column, int] = {"name": name, "rate": WIDTHS["rate"]}
        if bar:
            widths["bar"] = bar
        widths |= {column: WIDTHS[column] for column in columns if column != "rate"}
        widths["history"] = room - bar
        return cls(widths)

    def at(self, place: int) -> Column | None:
        """The column that is so many columns of the screen from the left."""
        for column, width in self.widths.items():
            place -= width
            if place < 0:
                return column
        return None

    def headings(self, page: Page, sort: Sort) -> dict[Column, Text]:
        """What stands above each column; the one that rows are sorted by is marked."""
        headings = {**HEADINGS, "name": page.removesuffix("s"), "bar": "of the line", "history": "last minute"}
        cells = {}
        for column, width in self.widths.items():
            left = column in ("name", "bar")
            mark = "▾" if page != "queues" and SORTED[sort] == column else ""
            text = f" {headings[column]}{mark}".ljust(width) if left else f"{headings[column]}{mark}".rjust(width)
            cells[column] = Text(text[:width] if left else text[-width:], "dim")
        return cells

    def cells(self, row: Row, history: Sequence[float]) -> list[Text]:
        """A row."""
        if row.data.get("idle") and not row.happens:
            name, *others = self.widths.items()
            width = sum(width for _, width in others)
            words = Text(cut(f" does not apply now: {row.data['idle']}", width).ljust(width), "dim")
            return [_cell(*name, row, history), words]
        return [_cell(column, width, row, history) for column, width in self.widths.items()]


def _cell(column: Column, width: int, row: Row, history: Sequence[float]) -> Text:
    if column == "name":
        name = " " + "  " * row.depth + row.name
        return Text(cut(name, width - 1).ljust(width), "bold" if row.heading or row.parent else "")
    if column == "bar":
        return Text(" ").append_text(bar(row, width - 1))
    if column == "history":
        return Text(spark(row, history, width - 1).rjust(width), BLUE)
    text, style = _figure(column, row)
    return Text(cut(text, width).rjust(width), style)


def _figure(column: Column, row: Row) -> tuple[str, str]:
    data = row.data
    if column == "rate":
        return _rate(row.rate) if row.rate else "–", "bold" if row.heading else ""
    if column == "backlog":
        return (format_size(float(f"{data['backlog']:.3g}")) if data.get("backlog") else ""), ""
    if column == "delay":
        return waited(data.get("delay", {}).get("p95", 0))
    if column == "drops":
        drops = data.get("drops", 0)
        return (f"{drops:,}" if drops else ""), ORANGE
    trip = data.get("round_trip", {}).get("beyond" if column == "trip" else "inside")
    return (format_time(float(f"{trip:.2g}")) if trip else ""), ""


def _rate(rate: float) -> str:
    return format_rate(float(f"{rate:.3g}"))


def waited(delay: Nanoseconds) -> tuple[str, str]:
    """A wait, and its colour."""
    style = f"bold {RED}" if delay >= LONG else ORANGE if delay >= SLOW else ""
    return (format_time(float(f"{delay:.2g}")) if delay else ""), style


def bar(row: Row, width: int) -> Text:
    """A rate against the line: full as far as it goes, thin as far as it may go; marks at the guarantee and the cap."""
    reach = min(row.cap or row.whole, row.whole)
    ends = _column(reach, row.whole, width) if reach else width
    full = _column(row.rate, row.whole, width) if row.rate else 0
    marked = _column(row.guarantee, row.whole, width) - 1 if row.guarantee else -1
    text = Text()
    for column in range(width):
        filled = column < full
        style = (ORANGE if row.capped else BLUE if column > marked else GREEN) if filled else PALE
        if column == marked:
            text.append("┿" if filled else "┼", style if filled else "")
        elif row.cap and column == ends - 1:
            text.append("┥" if filled else "┤", style if filled else "")
        else:
            text.append("━" if filled else "─" if column < ends else " ", style)
    return text


def _column(rate: float, whole: float, width: int) -> int:
    """The number of columns for a rate: at least one, and at most all."""
    return min(width, max(1, round(rate / whole * width))) if whole else 1


def spark(row: Row, history: Sequence[float], columns: int) -> str:
    """A history, one character per tick, relative to the line's rate or the maximum; no tick is blank."""
    shown = list(history)[-min(columns, KEPT) :]
    against = row.cap or (row.whole if row.key[0] == "queues" else 0)
    highest = max(against, *shown, 1.0) if shown else 1.0
    return "".join(" " if value <= 0 else SPARKS[min(6, int(value / highest * 7))] for value in shown)


def cut(name: str, columns: int) -> str:
    """As much of the text as fits."""
    return name if len(name) <= columns else name[: columns - 1] + "…"


def longest_name(rows: Sequence[Row]) -> int:
    """The width of the longest name with its indent."""
    return max((len(row.name) + 2 * row.depth for row in rows), default=0)


def title(status: dict[str, object], passed: int, frozen: bool, width: int) -> Text:
    """The site, its revision, a trial, and problems; the time at the right."""

    trial, missing, down = status["trial"], status["missing"], status.get("down")
    parts: list[tuple[str, str, str]] = []  # what is said, in short, and its style
    if isinstance(trial, dict):
        left = span_words(trial["left"])
        parts.append((f"on trial, {left} left", f"trial {left}", f"bold {ORANGE}"))
    for name in missing if isinstance(missing, list) else ():
        parts.append((f"{name} is missing", f"{name} missing", f"bold {RED}"))
    for name in down if isinstance(down, list) else ():
        parts.append((f"{name} is down", f"{name} down", f"bold {RED}"))
    if passed:
        parts.append((f"too slow: {passed:,} packets bypassed the gate", "too slow", f"bold {RED}"))
    elif status["strained"]:
        parts.append(("shaping uses a whole core", "core full", f"bold {ORANGE}"))
    state = "frozen  " if frozen else ""
    right = Text(f"{state}{status['clock']} ", f"bold {ORANGE}" if frozen else "dim")
    site = (f"{status['site']}", "bold")
    revision = [(f"revision {status['revision']}", "not bold dim")] if status["revision"] else []
    full, short = [(long, style) for long, _, style in parts], [(few, style) for _, few, style in parts]
    # What is wrong is said whole; where there is no room, the revision goes first, then words, then the site's name.
    for pieces in ([site, *full, *revision], [site, *full], [site, *short], short or [site], [site, *short]):
        text = Text(" ").append_text(Text("  ").join(Text(words, style) for words, style in pieces))
        if text.cell_len + right.cell_len < width:
            break
    return between(text, right, width)


def use_of(row: Row, width: int) -> Text:
    """An uplink's use in one direction, in this many columns: rate, bar, fraction, and delay."""
    part = row.rate / row.whole if row.whole else 0
    delay, style = waited(row.data.get("delay", {}).get("p95", 0))
    text = Text(cut(f" {row.name} ", 18).ljust(18), "bold")
    text.append(f"{_rate(row.rate) if row.rate else '–':>11}")
    tail = Text(f"{part:>5.0%} ").append(f"{delay:>7}", style)
    room = width - text.cell_len - tail.cell_len - 2
    if room >= 6:
        text.append(" ").append_text(bar(row, room))
    text.append_text(tail)
    text.truncate(width)
    return text


def between(left: Text, right: Text, width: int) -> Text:
    """One at each side; the left one is cut if both do not fit."""
    left.truncate(max(0, width - right.cell_len - 1), overflow="ellipsis")
    left.append(" " * max(1, width - left.cell_len - right.cell_len))
    left.append_text(right)
    left.truncate(width)
    return left


def table(watch: Watch, width: int) -> list[Text]:
    """The live view as a table of any length, for output that is no terminal; no lines before the first tick."""
    if watch.told is None:
        return []
    rows = watch.rows()
    layout = Layout.of(watch.page, width, longest_name(rows))
    lines = [title(watch.told, watch.passed, False, width)]
    lines.append(Text("").join(layout.headings(watch.page, watch.sort).values()))
    lines += [Text("").join(layout.cells(row, watch.histories.get(row.key, ()))) for row in rows]
    if not rows:
        lines.append(Text(f" {watch.nothing()}", "dim"))
    for line in lines:
        line.rstrip()
    return lines

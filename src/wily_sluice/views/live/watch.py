"""The live view of a gate: what is on the screen, worked out from what the gate tells and what keys were pressed.

It knows no terminal: `feed` takes in a tick, `press` a key, and `lines` gives the screen. Rates are of the last tick;
each row has a history of them, of which the newest stand right.
"""

from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, Literal, TypeAlias

from rich.text import Text

from wily_sluice.units import SECOND, format_rate, format_size, format_time
from wily_sluice.views.live.explain_row import explain_host, explain_limiter, explain_other, explain_queue
from wily_sluice.views.live.status import span_words
from wily_sluice.views.plan.tree import ARROWS
from wily_sluice.views.text.bars import sparkline

Page: TypeAlias = Literal["queues", "hosts", "services", "conversations", "limiters", "rules"]
PAGES: tuple[Page, ...] = ("queues", "hosts", "services", "conversations", "limiters", "rules")
SORTS = ("rate", "name", "drops", "delay", "backlog")
KEPT = 120  # ticks of history
NAME, FIGURES = 18, 51  # columns
HELP = "←→ page  ↑↓ row  s sort  / filter  space freeze  e explain  a all  q end"


@dataclass(slots=True)
class Row:
    """`key` tells it apart; `data` is what the gate told, `highest` what its history is measured against, in bit/s."""

    key: tuple[str, ...]
    name: str
    data: dict[str, Any]
    rate: float
    highest: float
    style: str = ""
    heading: bool = False
    guarantee: float = 0
    cap: float = 0


@dataclass(slots=True)
class Watch:
    """What is shown, and how."""

    page: Page = "queues"
    sort: str = "rate"
    filter: str = ""
    typing: bool = False
    frozen: bool = False
    explaining: bool = False
    idle_too: bool = False
    over: bool = False
    selected: tuple[str, ...] | None = None
    told: dict[str, Any] | None = None
    latest: dict[str, Any] | None = None
    histories: dict[tuple[str, ...], deque[float]] = field(default_factory=dict)
    _top: int = 0
    _unshaped: int = 0  # when it began to watch

    @property
    def wants_conversations(self) -> bool:
        """Whether the gate is to count single conversations."""
        return self.page == "conversations"

    def feed(self, told: dict[str, Any]) -> None:
        """Take in a tick."""
        if self.latest is None:
            self._unshaped = told["unshaped"]
        self.latest = told
        seen = set()
        for page in PAGES:
            for row in _rows(page, told):
                seen.add(row.key)
                self.histories.setdefault(row.key, deque(maxlen=KEPT)).append(row.rate)
        for key, history in list(self.histories.items()):
            if key not in seen:
                history.append(0.0)
                if not any(history):
                    del self.histories[key]
        if not self.frozen:
            self.told = told

    def press(self, key: str) -> None:
        """A key: a character, or its name, such as `left`, `page up`, `enter`, `escape` or `backspace`."""
        if self.typing:
            self._type(key)
        elif key in ("q", "ctrl-c"):
            self.over = True
        elif key in ("right", "tab", "left"):
            self._turn(PAGES[(PAGES.index(self.page) + (-1 if key == "left" else 1)) % len(PAGES)])
        elif key.isdigit() and 1 <= int(key) <= len(PAGES):
            self._turn(PAGES[int(key) - 1])
        elif key == "s":
            self.sort = SORTS[(SORTS.index(self.sort) + 1) % len(SORTS)]
        elif key == "/":
            self.typing = True
        elif key == " ":
            self.frozen = not self.frozen
            if not self.frozen:
                self.told = self.latest
        elif key in ("e", "enter"):
            self.explaining = not self.explaining
        elif key == "escape":
            self.explaining, self.filter = False, ""
        elif key == "a":
            self.idle_too = not self.idle_too
        elif key in ("up", "down", "page up", "page down"):
            self._step({"up": -1, "down": 1, "page up": -10, "page down": 10}[key])

    def _type(self, key: str) -> None:
        if key in ("enter", "ctrl-c"):
            self.typing = False
        elif key == "escape":
            self.typing, self.filter = False, ""
        elif key == "backspace":
            self.filter = self.filter[:-1]
        elif len(key) == 1:
            self.filter += key

    def _turn(self, page: Page) -> None:
        self.page, self.selected, self.explaining, self._top = page, None, False, 0

    def _step(self, steps: int) -> None:
        keys = [row.key for row in self.rows()]
        if keys:
            index = keys.index(self.selected) if self.selected in keys else (-1 if steps > 0 else 0)
            self.selected = keys[min(max(index + steps, 0), len(keys) - 1)]

    def rows(self) -> list[Row]:
        """The rows of the page, filtered and sorted; the tree's in the order of the plan."""
        if self.told is None:
            return []
        rows = list(_rows(self.page, self.told))
        if self.page == "queues":
            if not self.idle_too:
                busy = {row.key[:3] for row in rows if row.heading and _happens(row.data)}
                busy = busy or {row.key[:3] for row in rows[:1]}
                rows = [row for row in rows if row.heading or row.key[:3] in busy]
        else:
            rows = [row for row in rows if self.idle_too or _happens(row.data) or any(self.histories.get(row.key, ()))]
            rows.sort(key=lambda row: _sort_key(self.sort, row, self.histories.get(row.key)))
        word = self.filter.lower()
        return [row for row in rows if word in row.name.lower() or (row.heading and self.page == "queues")]

    def lines(self, width: int, height: int) -> list[Text]:
        """The screen."""
        if self.told is None:
            return [Text("waiting for the first figures …", "dim")]
        rows = self.rows()
        if self.selected not in [row.key for row in rows]:
            self.selected = next((row.key for row in rows if not row.heading), rows[0].key if rows else None)
        head = [self._title(width), self._tabs(width), self._columns(width)]
        foot = [self._footer(width)]
        explained = self._explained(rows, width) if self.explaining else []
        explained = explained[: max(0, height - len(head) - len(foot) - 4)]
        room = max(1, height - len(head) - len(foot) - len(explained))
        index = next((n for n, row in enumerate(rows) if row.key == self.selected), 0)
        self._top = min(max(0, self._top, index - room + 1), index)
        body = [self._row(row, width) for row in rows[self._top : self._top + room]]
        if not rows:
            body = [Text(f" {line}", "dim") for line in _wrapped(self._nothing(), width - 2)][:room]
        body += [Text("")] * (room - len(body))
        return [*head, *body, *explained, *foot]

    def table(self, width: int) -> list[Text]:
        """The same as a table of whatever length, with nothing selected."""
        if self.told is None:
            return []
        rows = self.rows()
        self.selected = ("",)
        return [self._title(width), self._columns(width), *(self._row(row, width) for row in rows)]

    def _nothing(self) -> str:
        if self.filter:
            return f"nothing matches “{self.filter}”; escape clears the filter"
        return f"no {self.page} with traffic now; a shows all"

    def _title(self, width: int) -> Text:
        told = self.told
        assert told is not None
        text = Text(f" {told['site']}", "bold")
        text.append(f"  revision {told['revision']}" if told["revision"] else "", "not bold")
        trial = told["trial"]
        if trial is not None:
            left = span_words(trial["left"])
            text.append(f"  on trial, {left} left", "bold yellow")
        for name in told["missing"]:
            text.append(f"  {name} is missing", "bold red")
        passed = told["unshaped"] - self._unshaped
        if passed:
            text.append(f"  too slow: {passed:,} packets unshaped", "bold red")
        elif told["strained"]:
            text.append("  shaping uses a whole core", "bold yellow")
        state = "frozen  " if self.frozen else ""
        return _between(text, Text(f"{state}{told['clock']} ", "bold cyan" if self.frozen else "dim"), width)

    def _tabs(self, width: int) -> Text:
        text = Text(" ")
        for number, page in enumerate(PAGES, 1):
            text.append(f"{number} {page}", "bold underline" if page == self.page else "dim").append("  ")
        text.truncate(width)
        return text

    def _columns(self, width: int) -> Text:
        name = {"queues": "queue"}.get(self.page, self.page.removesuffix("s"))
        guarantee, cap = ("% guar", "% cap") if self.page == "queues" else ("", "")
        text = Text(f" {name:<{self._name_width(width)}}{'rate':>11}{guarantee:>8}{cap:>7}{'backlog':>9}", "dim")
        text.append(f"{'delay':>8}{'drops':>7} ")
        room = width - text.cell_len - 1
        text.append("last minute".rjust(room) if room >= 11 else "history".rjust(room) if room >= 8 else "")
        text.truncate(width)
        return text

    def _name_width(self, width: int) -> int:
        return max(NAME, min(44, width - FIGURES - 32)) if width > 110 else NAME

    def _row(self, row: Row, width: int) -> Text:
        data = row.data
        chosen = row.key == self.selected
        names = self._name_width(width)
        text = Text(" ")
        text.append(f"{_cut(row.name, names - 1):<{names}}", f"{row.style}{' reverse' if chosen else ''}".strip())
        rate = format_rate(float(f"{row.rate:.3g}")) if row.rate else "–"
        text.append(f"{rate:>11}", "bold" if row.heading else "")
        for against, columns in ((row.guarantee, 8), (row.cap, 7)):
            part = f"{row.rate / against:.0%}" if against and row.rate else ""
            held = columns == 7 and bool(part) and row.rate > 0.97 * against
            text.append(part.rjust(columns), "yellow" if held else "")
        backlog = format_size(float(f"{data['backlog']:.3g}")) if data.get("backlog") else ""
        text.append(f"{backlog:>9}")
        delay = data.get("delay", {}).get("p95", 0)
        text.append(f"{format_time(_three(delay)) if delay else '':>8}", "red" if delay > SECOND // 10 else "")
        drops = data.get("drops", 0)
        text.append(f"{drops or '':>7} ", "yellow" if drops else "")
        room = width - text.cell_len - 1
        if room >= 6:
            text.append(" ")
            text.append(self._spark(row, min(room - 1, KEPT)), "cyan")
        text.truncate(width)
        return text

    def _spark(self, row: Row, columns: int) -> str:
        history = list(self.histories.get(row.key, ()))[-columns:]
        highest = max(row.highest, *history, 1.0) if history else 1.0
        return sparkline(history, highest).rjust(columns)

    def _explained(self, rows: list[Row], width: int) -> list[Text]:
        row = next((row for row in rows if row.key == self.selected), None)
        if row is None or self.told is None:
            return []
        explain = {"queues": explain_queue, "hosts": explain_host, "limiters": explain_limiter}
        sentences = explain.get(self.page, explain_other)(row.key, row.data, self.told)
        lines = [Text("─" * width, "dim")]
        for sentence in sentences:
            for line in _wrapped(sentence, width - 2):
                lines.append(Text(f" {line}"))
        return lines

    def _footer(self, width: int) -> Text:
        if self.typing:
            return Text(f" filter: {self.filter}▏", "bold")
        sort = "" if self.page == "queues" else f"  by {self.sort}"
        only = f"  only “{self.filter}”" if self.filter else ""
        return _between(Text(f" {HELP}", "dim"), Text(f"{only}{sort} ", "cyan"), width)


def _happens(data: dict[str, Any]) -> bool:
    return bool(data.get("packets") or data.get("drops") or data.get("waiting"))


def _sort_key(sort: str, row: Row, history: deque[float] | None) -> tuple[float, str]:
    data = row.data
    if sort == "name":
        return 0, row.name
    if sort == "rate":  # over a few ticks, so that rows do not change places all the time
        recent = list(history or ())[-10:]
        return -round(sum(recent) / max(1, len(recent)) / 1000), row.name
    value = data["delay"]["p95"] if sort == "delay" else data[sort]
    return -value, row.name


def _rows(page: Page, told: dict[str, Any]) -> Iterator[Row]:
    """The rows of a page, in the order in which the gate tells them."""
    if page == "queues":
        yield from _queue_rows(told)
        return
    for name, ways in told.get(page, {}).items():
        for direction, data in ways.items():
            label = f"{ARROWS[direction][0]} {data.get('label', name)}"
            highest = data.get("cap", 0)
            yield Row((page, name, direction), label, data, data["rate"], highest, cap=highest)


def _queue_rows(told: dict[str, Any]) -> Iterator[Row]:
    for name, uplink in told["uplinks"].items():
        for direction in ("down", "up"):
            whole = uplink[direction]
            key = ("queues", name, direction)
            usable = whole["usable"]
            label = f"{name} {ARROWS[direction]}"
            yield Row(key, label, whole, whole["line_rate"], usable, "bold", True, cap=usable)
            for path, queue in whole["queues"].items():
                depth = path.count("/") + 1
                yield Row(
                    (*key, path),
                    "  " * depth + path.rpartition("/")[2],
                    queue,
                    queue["line_rate"],
                    queue["cap"],
                    "" if queue["leaf"] else "bold",
                    guarantee=queue["guarantee"],
                    cap=queue["cap"],
                )


def _three(value: int) -> int:
    return round(float(f"{value:.2g}"))


def _cut(name: str, columns: int) -> str:
    return name if len(name) <= columns else name[: columns - 1] + "…"


def _between(left: Text, right: Text, width: int) -> Text:
    """One at each side; the left one is cut if both do not fit."""
    left.truncate(max(0, width - right.cell_len - 1), overflow="ellipsis")
    left.append(" " * max(1, width - left.cell_len - right.cell_len))
    left.append_text(right)
    left.truncate(width)
    return left


def _wrapped(sentence: str, width: int) -> list[str]:
    lines, line = [], ""
    for word in sentence.split(" "):
        if line and len(line) + 1 + len(word) > width:
            lines.append(line)
            line = word
        else:
            line = f"{line} {word}".strip()
    return [*lines, line]

"""The state of the live view, from the gate's ticks and the user's choices.

It knows no terminal: `feed` takes a tick, and `rows` returns the rows of a page. Rates are those of the last tick; each
row has a history, newest last.
"""

from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, Literal, TypeAlias, get_args

from wily_sluice.units import DIRECTIONS
from wily_sluice.views.text.console import ARROWS

Page: TypeAlias = Literal["queues", "hosts", "services", "conversations", "limiters", "rules"]
Sort: TypeAlias = Literal["rate", "name", "drops", "delay", "backlog"]
PAGES: tuple[Page, ...] = get_args(Page)
SORTS: tuple[Sort, ...] = get_args(Sort)
KEPT = 120  # ticks of history
STANDS = 20  # ticks for which a round trip is shown
RECENT = 10  # ticks that rows are sorted by


@dataclass(slots=True)
class Row:
    """`key` identifies the row; `data` comes from the gate. Rates in bit/s: `rate` is drawn relative to `whole`, the
    usable rate; a missing guarantee or cap is 0.
    """

    key: tuple[str, ...]
    name: str
    data: dict[str, Any]
    rate: float
    whole: float
    depth: int = 0
    parent: bool = False
    heading: bool = False
    guarantee: float = 0
    cap: float = 0

    @property
    def capped(self) -> bool:
        """Whether it is at its cap."""
        return bool(self.cap) and self.rate > 0.97 * self.cap

    @property
    def happens(self) -> bool:
        """Whether anything happened in the tick."""
        return bool(self.data.get("packets") or self.data.get("drops") or self.data.get("backlog_packets"))


@dataclass(slots=True)
class Watch:
    """The content and the options of the view. `told` is the visible tick, `latest` the last one received."""

    page: Page = "queues"
    sort: Sort = "rate"
    filter: str = ""
    frozen: bool = False
    idle_too: bool = False
    selected: tuple[str, ...] | None = None
    told: dict[str, Any] | None = None
    latest: dict[str, Any] | None = None
    histories: dict[tuple[str, ...], deque[float]] = field(default_factory=dict)
    _bypassed: int = 0  # when it began to watch
    _trips: dict[tuple[str, ...], tuple[int, dict[str, int]]] = field(default_factory=dict)
    _ticks: int = 0

    @property
    def wanted(self) -> Literal["conversations", "ticks"]:
        """The subscription needed: single conversations are counted only while they are visible."""
        return "conversations" if self.page == "conversations" else "ticks"

    @property
    def passed(self) -> int:
        """Packets that bypassed the gate since this view started."""
        return self.told["bypassed"] - self._bypassed if self.told is not None else 0

    def feed(self, tick: dict[str, Any]) -> None:
        """Take in a tick."""
        if self.latest is None:
            self._bypassed = tick["bypassed"]
        self.latest = tick
        seen = set()
        for page in PAGES:
            for row in _rows(page, tick):
                seen.add(row.key)
                self.histories.setdefault(row.key, deque(maxlen=KEPT)).append(row.rate)
        for key, history in list(self.histories.items()):
            if key not in seen:
                history.append(0.0)
                if not any(history):
                    del self.histories[key]
        self._remember_trips(tick)
        if not self.frozen:
            self.told = tick

    def _remember_trips(self, latest: dict[str, Any]) -> None:
        """Not every tick has all round trips, so the last ones stay for a while."""
        self._ticks += 1
        for page in PAGES[1:]:
            for name, ways in latest.get(page, {}).items():
                for way, data in ways.items():
                    if "round_trip" in data:
                        self._trips[page, name, way] = self._ticks, data["round_trip"]
        for key, (tick, trip) in list(self._trips.items()):
            of, name, way = key
            if tick < self._ticks - STANDS:
                del self._trips[key]
            elif data := latest.get(of, {}).get(name, {}).get(way):
                data.setdefault("round_trip", trip)

    def turn(self, page: Page) -> None:
        """To another page."""
        self.page, self.selected = page, None

    def freeze(self) -> None:
        """Freeze or resume the figures."""
        self.frozen = not self.frozen
        if not self.frozen:
            self.told = self.latest

    def sort_next(self) -> None:
        """By the next quantity."""
        self.sort = SORTS[(SORTS.index(self.sort) + 1) % len(SORTS)]

    def rows(self) -> list[Row]:
        """The rows of the page, filtered and sorted; the tree's in the order of the plan."""
        if self.told is None:
            return []
        rows = list(_rows(self.page, self.told))
        if self.page == "queues":
            if not self.idle_too:
                busy = {row.key[:3] for row in rows if row.heading and row.happens}
                busy = busy or {row.key[:3] for row in rows[:1]}
                rows = [row for row in rows if row.heading or row.key[:3] in busy]
        else:
            rows = [
                row
                for row in rows
                if self.idle_too or row.happens or row.data.get("idle") or any(self.histories.get(row.key, ()))
            ]
            rows.sort(key=self._sort_key)
        word = self.filter.lower()
        return [row for row in rows if word in row.name.lower() or (row.heading and self.page == "queues")]

    def _sort_key(self, row: Row) -> tuple[float, str]:
        if self.sort == "name":
            return 0, row.name
        if self.sort == "rate":  # over a few ticks, so that rows do not change places all the time
            recent = list(self.histories.get(row.key, ()))[-RECENT:]
            return -round(sum(recent) / max(1, len(recent)) / 1000), row.name
        value = row.data["delay"]["p95"] if self.sort == "delay" else row.data[self.sort]
        return -value, row.name

    def nothing(self) -> str:
        """Why there is no row."""
        if self.told is None:
            return "waiting for the first figures …"
        if self.filter:
            return f"nothing matches “{self.filter}”; escape clears the filter"
        return f"no {self.page} with traffic now; a shows all"


def _rows(page: Page, tick: dict[str, Any]) -> Iterator[Row]:
    """The rows of a page, in the gate's order."""
    if page == "queues":
        yield from _queue_rows(tick)
        return
    whole = {way: sum(uplink[way]["usable"] for uplink in tick["uplinks"].values()) for way in DIRECTIONS}
    for name, ways in tick.get(page, {}).items():
        for way, data in ways.items():
            label = f"{ARROWS[way][0]} {data.get('label', name)}"
            together = data.get("per", "").startswith("all")
            yield Row(
                (page, name, way), label, data, data["rate"], whole[way], cap=data.get("cap", 0) if together else 0
            )


def _queue_rows(tick: dict[str, Any]) -> Iterator[Row]:
    for name, uplink in tick["uplinks"].items():
        for way in DIRECTIONS:
            whole = uplink[way]
            key = ("queues", name, way)
            usable = whole["usable"]
            yield Row(key, f"{name} {ARROWS[way]}", whole, whole["line_rate"], usable, heading=True, cap=usable)
            for path, queue in whole["queues"].items():
                yield Row(
                    (*key, path),
                    path.rpartition("/")[2],
                    queue,
                    queue["line_rate"],
                    usable,
                    path.count("/") + 1,
                    not queue["leaf"],
                    guarantee=queue["guarantee"],
                    cap=queue["cap"] if queue["cap"] < usable else 0,
                )

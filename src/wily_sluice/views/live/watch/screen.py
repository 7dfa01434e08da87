"""The live view in a terminal, by keys and mouse."""

from typing import Any, ClassVar, Final

from rich.text import Text
from textual import events
from textual.app import App, ComposeResult
from textual.binding import Binding, BindingType
from textual.screen import ModalScreen
from textual.theme import Theme
from textual.widgets import Footer, Input, Static, Tab, Tabs

from wily_sluice.units import format_time
from wily_sluice.views.live.watch.cells import (
    BLUE,
    GREEN,
    LONG,
    ORANGE,
    RED,
    SLOW,
    SORTED,
    Layout,
    longest_name,
    title,
    use_of,
)
from wily_sluice.views.live.watch.explain_row import explain_host, explain_limiter, explain_other, explain_queue
from wily_sluice.views.live.watch.rows import Rows
from wily_sluice.views.live.watch.state import PAGES, Page, Row, Watch

EXPLAIN: Final = {"queues": explain_queue, "hosts": explain_host, "limiters": explain_limiter}
MOST_LINES = 3  # of uplinks at the top
LOW = 18  # lines of a screen that has room for more than rows
TWO_BESIDE = 110  # columns: both directions of an uplink in one line
HELP: Final = f"""\
[b]Pages[/]     ← → or 1 to 6, or a click
[b]Rows[/]      ↑ ↓, page up, page down, home, end, a click, the wheel
[b]e, enter[/]  explain the row
[b]s[/]         sort by the next column; or click its heading
[b]/[/]         filter by a part of the name; escape shows all
[b]a[/]         show idle rows too
[b]space[/]     freeze the figures
[b]q[/]         quit

[b]Bars[/] show rates relative to the usable rate: [{GREEN}]━[/] within the guarantee [b]┼[/], \
[{BLUE}]━[/] beyond it, [{ORANGE}]━[/] at the cap [b]┤[/].
[b]Delay[/] is the 95th percentile in the gate: from [{ORANGE}]{format_time(SLOW)}[/] on, calls and games suffer, \
from [b {RED}]{format_time(LONG)}[/] on, everything does.
[b]Round trip[/] is from the gate to the remote and back, without the gate's own delay; [b]in house[/] to the host.
[b]The last minute[/] is relative to the cap or the usable rate; for hosts and services, to their own maximum."""
THEME: Final = Theme(
    "plain", primary=BLUE, accent=BLUE, warning=ORANGE, error=RED, success=GREEN, background="#121417",
    surface="#121417", panel="#1c2026", foreground="#d8dce2", dark=True,
)  # fmt: skip


class Help(ModalScreen[None]):
    """The keys and columns."""

    BINDINGS: ClassVar[list[BindingType]] = [Binding("escape,question_mark,q,enter,space", "dismiss", show=False)]

    def compose(self) -> ComposeResult:
        """One box of text."""
        yield Static(HELP, id="help")

    def on_click(self) -> None:
        """A click closes it."""
        self.dismiss()


class WatchScreen(App[None]):
    """Shows the ticks it is fed with. `state` decides what is visible; `turned` is called on a change of page, and
    `state.wanted` then says whether single conversations are needed.
    """

    ENABLE_COMMAND_PALETTE = False
    CSS = """
    Screen { background: $background; }
    #title, #legend { height: 1; }
    #lines { height: auto; }
    #legend { color: $text-muted; }
    Tabs { height: 2; }
    Rows { height: 1fr; }
    Rows .rows--heading { color: $text-muted; }
    Rows .rows--chosen { background: #34557a; color: #ffffff; text-style: bold; }
    #nothing { height: 1; color: $text-muted; display: none; }
    #explained { height: auto; max-height: 40%; background: $panel; padding: 0 1; display: none; }
    #filter { height: 1; border: none; padding: 0 1; background: $panel; display: none; }
    Help { align: center middle; }
    #help { width: 84; max-width: 100%; height: auto; max-height: 100%; padding: 1 2; background: $panel; }
    Footer { background: $panel; }
    """
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("left", "page(-1)", "page", key_display="←→"),
        Binding("right,tab", "page(1)", show=False),
        *(Binding(str(number), f"turn('{page}')", show=False) for number, page in enumerate(PAGES, 1)),
        Binding("e", "explain", "explain"),
        Binding("s", "sort", "sort"),
        Binding("slash", "filter", "filter", key_display="/"),
        Binding("a", "idle", "all"),
        Binding("space", "freeze", "freeze"),
        Binding("question_mark", "help", "help", key_display="?"),
        Binding("q", "quit", "quit"),
        Binding("ctrl+c", "quit", show=False, priority=True),
        Binding("escape", "clear", show=False),
    ]

    def __init__(self, state: Watch) -> None:
        super().__init__()
        self.state = state
        self.explaining = False
        self._columns = Layout({})
        self._longest = 0  # columns of the longest name so far on this page
        self._listed: list[Row] = []
        self._height = 0  # of what uplinks do
        # Kept here: a search for them would look in the screen on top, which may be the help.
        self._title = Static(id="title")
        self._lines = Static(id="lines")
        self._pages = Tabs(
            *(Tab(f"{number} {page}", id=page) for number, page in enumerate(PAGES, 1)), active=state.page
        )
        self._table = Rows()
        self._nothing = Static(id="nothing")
        self._explained = Static(id="explained")
        self._legend = Static(id="legend")
        self._filter = Input(state.filter, placeholder="only names that contain …", id="filter", select_on_focus=False)

    def compose(self) -> ComposeResult:
        """Title, lines, pages, rows, explanation, legend, keys."""
        yield self._title
        yield self._lines
        yield self._pages
        yield self._table
        yield self._nothing
        yield self._explained
        yield self._legend
        yield self._filter
        yield Footer()

    def on_mount(self) -> None:
        """Nothing moves but figures."""
        self.animation_level = "none"
        self.register_theme(THEME)
        self.theme = THEME.name
        self._pages.can_focus = False
        self._filter.display = bool(self.state.filter)
        self._table.focus()
        self._lay_out()

    def on_resize(self, _: events.Resize) -> None:
        """Other columns may fit."""
        self._lay_out()

    def feed(self, tick: dict[str, Any]) -> None:
        """Take in a tick, and show it."""
        self.state.feed(tick)
        if not self.state.frozen:
            self.show()

    def turned(self) -> None:
        """Another page is shown: a subclass may want other data."""

    def _lay_out(self) -> None:
        """The columns of this page, on a screen of this width."""
        self._longest = 0
        self._columns = Layout.of(self.state.page, self.size.width - 1)
        for line in (self._lines, self._legend):
            line.display = self.size.height >= LOW
        self._legend.update(self._what_it_means())
        self.show()

    def _what_it_means(self) -> Text:
        text = Text(" delay: 95 of 100 packets waited less  ")
        text.append(f"≥ {format_time(SLOW)}", ORANGE).append("  ").append(f"≥ {format_time(LONG)}", f"bold {RED}")
        if "bar" in self._columns.widths:
            marks = "   ┼ guarantee  ┤ cap" if self.state.page == "queues" else ""
            text.append(marks)
        text.truncate(self.size.width)
        return text

    def show(self) -> None:
        """Draw the present state."""
        watch, width = self.state, self.size.width
        tick = watch.told
        if tick is not None:
            self._title.update(title(tick, watch.passed, watch.frozen, width), layout=False)
            lines = self._uplinks(tick, width)
            height = len(lines)
            self._lines.update(Text("\n").join(lines), layout=height != self._height)
            self._height = height
        self._listed = watch.rows()
        if (longest := longest_name(self._listed)) > self._longest:  # columns only grow while a page is shown
            self._longest = longest
            self._columns = Layout.of(watch.page, width - 1, longest)
            self._legend.update(self._what_it_means())
        keys = [row.key for row in self._listed]
        if watch.selected not in keys:
            watch.selected = next((row.key for row in self._listed if not row.heading), keys[0] if keys else None)
        heading = Text("").join(self._columns.headings(watch.page, watch.sort).values())
        lines = [Text("").join(self._columns.cells(row, watch.histories.get(row.key, ()))) for row in self._listed]
        chosen = keys.index(watch.selected) if watch.selected is not None else -1
        self._table.show(heading, lines, chosen)
        self._nothing.display = not self._listed
        if not self._listed:
            self._nothing.update(f" {watch.nothing()}")
        self._explain()

    def _uplinks(self, tick: dict[str, Any], width: int) -> list[Text]:
        """Each uplink's use, with both directions side by side on a wide screen; only the busiest if there are many."""
        lines = []
        for name, uplink in tick["uplinks"].items():
            ways = [
                Row(
                    ("queues", name, way),
                    f"{name} {arrow}",
                    uplink[way],
                    uplink[way]["line_rate"],
                    uplink[way]["usable"],
                )
                for way, arrow in (("down", "↓"), ("up", "↑"))
            ]
            if width >= TWO_BESIDE:
                lines.append(
                    (sum(row.rate for row in ways), Text("   ").join(use_of(row, width // 2 - 2) for row in ways))
                )
            else:
                lines += [(row.rate, use_of(row, width)) for row in ways if row.rate or not lines]
        if len(lines) > MOST_LINES:
            kept = sorted(lines, key=lambda line: -line[0])[:MOST_LINES]
            lines = [line for line in lines if line in kept]
        return [line for _, line in lines]

    def _explain(self) -> None:
        row = next((row for row in self._listed if row.key == self.state.selected), None)
        self._explained.display = self.explaining and row is not None
        if self.explaining and row is not None and self.state.told is not None:
            explain = EXPLAIN.get(self.state.page, explain_other)
            self._explained.update(" ".join(explain(row.key, row.data, self.state.told)))

    def action_page(self, steps: int) -> None:
        """So many pages on."""
        self._pages.active = PAGES[(PAGES.index(self.state.page) + steps) % len(PAGES)]

    def action_turn(self, page: str) -> None:
        """To that page."""
        self._pages.active = page

    def on_tabs_tab_activated(self, event: Tabs.TabActivated) -> None:
        """A page was chosen, by a key or the mouse."""
        page: Page = next(page for page in PAGES if page == event.tab.id)
        if page != self.state.page:
            self.state.turn(page)
            self.explaining = False
            self._lay_out()
            self.turned()

    def on_rows_chosen(self, event: Rows.Chosen) -> None:
        """The user selected a row."""
        if event.row < len(self._listed):
            self.state.selected = self._listed[event.row].key
            self.show()

    def on_rows_entered(self, _: Rows.Entered) -> None:
        """Enter, or a click on the row that is chosen."""
        self.action_explain()

    def on_rows_heading_clicked(self, event: Rows.HeadingClicked) -> None:
        """Sort by that column."""
        column = self._columns.at(event.column)
        sort = next((sort for sort, sorted_by in SORTED.items() if sorted_by == column), None)
        if sort is not None:
            self.state.sort = sort
            self.show()

    def action_explain(self) -> None:
        """Show or hide the explanation of the row."""
        self.explaining = not self.explaining
        self._explain()

    def action_sort(self) -> None:
        """By the next column."""
        self.state.sort_next()
        self._lay_out()

    def action_idle(self) -> None:
        """Show or hide idle rows."""
        self.state.idle_too = not self.state.idle_too
        self.show()

    def action_freeze(self) -> None:
        """Freeze or resume the figures."""
        self.state.freeze()
        self.show()

    def action_help(self) -> None:
        """Show what keys do."""
        self.push_screen(Help())

    def action_filter(self) -> None:
        """Ask for a word."""
        self._filter.display = True
        self._filter.focus()

    def on_input_changed(self, event: Input.Changed) -> None:
        """Show what matches at once."""
        self.state.filter = event.value
        self.show()

    def on_input_submitted(self, _: Input.Submitted) -> None:
        """Keep the filter, and give the keys back to the rows."""
        self._leave_filter()

    def _leave_filter(self) -> None:
        self._filter.display = bool(self.state.filter)
        self._table.focus()

    def action_clear(self) -> None:
        """No filter, no explanation."""
        self.explaining = False
        self._filter.value = ""
        self.state.filter = ""
        self._leave_filter()
        self.show()

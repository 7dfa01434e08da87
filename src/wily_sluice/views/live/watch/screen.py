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
[b]/[/]         show only names that contain a word; escape shows all again
[b]a[/]         show what is idle too
[b]space[/]     freeze the figures
[b]q[/]         quit

[b]Bars[/] are rates against what the line can carry: [{GREEN}]━[/] within the guarantee [b]┼[/], \
[{BLUE}]━[/] beyond it, [{ORANGE}]━[/] at the cap [b]┤[/].
[b]Delay[/] is what 95 of 100 packets waited in the gate at most: [{ORANGE}]{format_time(SLOW)}[/] and more is felt in \
calls and play, [b {RED}]{format_time(LONG)}[/] by everybody.
[b]Round trip[/] is from the gate to the remote and back, without that wait; [b]in house[/] to the host and back.
[b]The last minute[/] is drawn against the cap or the line; for hosts and services, against their own highest."""
THEME: Final = Theme(
    "plain", primary=BLUE, accent=BLUE, warning=ORANGE, error=RED, success=GREEN, background="#121417",
    surface="#121417", panel="#1c2026", foreground="#d8dce2", dark=True,
)  # fmt: skip


class Help(ModalScreen[None]):
    """What keys do, and what is seen."""

    BINDINGS: ClassVar[list[BindingType]] = [Binding("escape,question_mark,q,enter,space", "dismiss", show=False)]

    def compose(self) -> ComposeResult:
        """One box of text."""
        yield Static(HELP, id="help")

    def on_click(self) -> None:
        """A click closes it."""
        self.dismiss()


class WatchScreen(App[None]):
    """Shows what it is fed with. `state` is what is shown; whoever feeds it may look at `wants_conversations` there
    whenever `turned` is called.
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
    Rows .rows--chosen { background: #2a3340; }
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
        self._listed: list[Row] = []
        self._height = 0  # of what uplinks do

    def compose(self) -> ComposeResult:
        """Title, lines, pages, rows, explanation, legend, keys."""
        yield Static(id="title")
        yield Static(id="lines")
        yield Tabs(*(Tab(f"{number} {page}", id=page) for number, page in enumerate(PAGES, 1)), active=self.state.page)
        yield Rows()
        yield Static(id="nothing")
        yield Static(id="explained")
        yield Static(id="legend")
        yield Input(placeholder="only names that contain …", id="filter", select_on_focus=False)
        yield Footer()

    def on_mount(self) -> None:
        """Nothing moves but figures."""
        self.animation_level = "none"
        self.register_theme(THEME)
        self.theme = THEME.name
        self.query_one(Tabs).can_focus = False
        self.query_one(Rows).focus()
        self._lay_out()

    def on_resize(self, _: events.Resize) -> None:
        """Other columns may fit."""
        self._lay_out()

    def feed(self, told: dict[str, Any]) -> None:
        """Take in a tick, and show it."""
        self.state.feed(told)
        if not self.state.frozen:
            self.show()

    def turned(self) -> None:
        """Another page is shown. For whoever feeds it."""

    def _lay_out(self) -> None:
        """The columns of this page, on a screen of this width."""
        self._columns = Layout.of(self.state.page, self.size.width - 1)
        for name in ("#lines", "#legend"):
            self.query_one(name).display = self.size.height >= LOW
        self.query_one("#legend", Static).update(self._legend())
        self.show()

    def _legend(self) -> Text:
        text = Text(" delay: 95 of 100 packets waited less  ")
        text.append(f"≥ {format_time(SLOW)}", ORANGE).append("  ").append(f"≥ {format_time(LONG)}", f"bold {RED}")
        if "bar" in self._columns.widths:
            marks = "   ┼ guarantee  ┤ cap" if self.state.page == "queues" else ""
            text.append(marks)
        text.truncate(self.size.width)
        return text

    def show(self) -> None:
        """Draw what is told."""
        watch, width = self.state, self.size.width
        told = watch.told
        if told is not None:
            self.query_one("#title", Static).update(title(told, watch.passed, watch.frozen, width), layout=False)
            lines = self._uplinks(told, width)
            height = len(lines)
            self.query_one("#lines", Static).update(Text("\n").join(lines), layout=height != self._height)
            self._height = height
        self._listed = watch.rows()
        keys = [row.key for row in self._listed]
        if watch.selected not in keys:
            watch.selected = next((row.key for row in self._listed if not row.heading), keys[0] if keys else None)
        heading = Text("").join(self._columns.headings(watch.page, watch.sort).values())
        lines = [Text("").join(self._columns.cells(row, watch.histories.get(row.key, ()))) for row in self._listed]
        chosen = keys.index(watch.selected) if watch.selected is not None else -1
        self.query_one(Rows).show(heading, lines, chosen)
        nothing = self.query_one("#nothing", Static)
        nothing.display = not self._listed
        if not self._listed:
            nothing.update(f" {watch.nothing()}")
        self._explain()

    def _uplinks(self, told: dict[str, Any], width: int) -> list[Text]:
        """Each uplink's use, both directions beside each other where there is room; the busiest, if they are many."""
        lines = []
        for name, uplink in told["uplinks"].items():
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
                    (sum(one.rate for one in ways), Text("   ").join(use_of(one, width // 2 - 2) for one in ways))
                )
            else:
                lines += [(one.rate, use_of(one, width)) for one in ways if one.rate or not lines]
        if len(lines) > MOST_LINES:
            kept = sorted(lines, key=lambda line: -line[0])[:MOST_LINES]
            lines = [line for line in lines if line in kept]
        return [line for _, line in lines]

    def _explain(self) -> None:
        panel = self.query_one("#explained", Static)
        row = next((row for row in self._listed if row.key == self.state.selected), None)
        panel.display = self.explaining and row is not None
        if self.explaining and row is not None and self.state.told is not None:
            explain = EXPLAIN.get(self.state.page, explain_other)
            panel.update(" ".join(explain(row.key, row.data, self.state.told)))

    def action_page(self, steps: int) -> None:
        """So many pages on."""
        self.query_one(Tabs).active = PAGES[(PAGES.index(self.state.page) + steps) % len(PAGES)]

    def action_turn(self, page: str) -> None:
        """To that page."""
        self.query_one(Tabs).active = page

    def on_tabs_tab_activated(self, event: Tabs.TabActivated) -> None:
        """A page was chosen, by a key or the mouse."""
        page: Page = next(one for one in PAGES if one == event.tab.id)
        if page != self.state.page:
            self.state.turn(page)
            self.explaining = False
            self._lay_out()
            self.turned()

    def on_rows_chosen(self, event: Rows.Chosen) -> None:
        """The person went to a row."""
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
        """Say why the row is as it is, or no more."""
        self.explaining = not self.explaining
        self._explain()

    def action_sort(self) -> None:
        """By the next column."""
        self.state.sort_next()
        self._lay_out()

    def action_idle(self) -> None:
        """Show idle rows too, or no more."""
        self.state.idle_too = not self.state.idle_too
        self.show()

    def action_freeze(self) -> None:
        """Stop the figures, or let them go on."""
        self.state.freeze()
        self.show()

    def action_help(self) -> None:
        """Show what keys do."""
        self.push_screen(Help())

    def action_filter(self) -> None:
        """Ask for a word."""
        box = self.query_one("#filter", Input)
        box.display = True
        box.focus()

    def on_input_changed(self, event: Input.Changed) -> None:
        """Show what matches at once."""
        self.state.filter = event.value
        self.show()

    def on_input_submitted(self, _: Input.Submitted) -> None:
        """Keep the filter, and give the keys back to the rows."""
        self._leave_filter()

    def _leave_filter(self) -> None:
        box = self.query_one("#filter", Input)
        box.display = bool(self.state.filter)
        self.query_one(Rows).focus()

    def action_clear(self) -> None:
        """No filter, no explanation."""
        self.explaining = False
        self.query_one("#filter", Input).value = ""
        self.state.filter = ""
        self._leave_filter()
        self.show()

"""Tables of the live view."""

from typing import ClassVar

from rich.text import Text
from textual import events
from textual.binding import Binding, BindingType
from textual.geometry import Region, Size
from textual.message import Message
from textual.scroll_view import ScrollView
from textual.strip import Strip

PAGE = 10  # rows at least, of page up and page down
HEADER = 1


class Rows(ScrollView, can_focus=True, inherit_bindings=False):
    """Lines of text below headings, with a selection by keys or mouse."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up", "step(-1)", show=False),
        Binding("down", "step(1)", show=False),
        Binding("pageup", "leap(-1)", show=False),
        Binding("pagedown", "leap(1)", show=False),
        Binding("home", "step(-1000000)", show=False),
        Binding("end", "step(1000000)", show=False),
        Binding("enter", "enter", show=False),
    ]
    COMPONENT_CLASSES: ClassVar[set[str]] = {"rows--heading", "rows--chosen"}
    DEFAULT_CSS = """
    Rows { scrollbar-size-vertical: 1; overflow-x: hidden; overflow-y: auto; }
    """

    class Chosen(Message):
        """The user selected a row."""

        def __init__(self, row: int) -> None:
            super().__init__()
            self.row = row

    class Entered(Message):
        """The person wants to know more of the row that is chosen."""

    class HeadingClicked(Message):
        """Somebody clicked on the headings, so many columns from the left."""

        def __init__(self, column: int) -> None:
            super().__init__()
            self.column = column

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[Text] = []
        self.chosen = -1
        self._heading = Text()

    def show(self, heading: Text, lines: list[Text], chosen: int) -> None:
        """Show these, and that one as chosen; it stays in sight if it was, or if it is another now."""
        width = self.scrollable_content_region.width
        if heading != self._heading:
            self._heading = heading
            self.refresh(Region(0, 0, width, HEADER))
        before, was, top = self.lines, self.chosen, round(self.scroll_offset.y)
        in_sight = top <= was < top + self._room
        self.lines, self.chosen = lines, chosen
        if len(lines) != len(before):
            self.virtual_size = Size(0, len(lines) + HEADER)
            self.refresh()
        for number in range(top, min(len(lines), len(before), top + self._room)):
            if lines[number] != before[number] or (number in (was, chosen) and was != chosen):
                self.refresh(Region(0, number - top + HEADER, width, 1))
        if chosen != was and (in_sight or was < 0):
            self._bring_in_sight()

    @property
    def _room(self) -> int:
        """Rows that are in sight."""
        return max(1, self.size.height - HEADER)

    def _bring_in_sight(self) -> None:
        top = round(self.scroll_offset.y)
        wanted = min(max(top, self.chosen - self._room + 1), max(0, self.chosen))
        if wanted != top:
            self.scroll_to(y=wanted, animate=False)

    def render_line(self, y: int) -> Strip:
        """A visible line."""
        width = self.scrollable_content_region.width
        number = y - HEADER + round(self.scroll_offset.y)
        style = self.rich_style
        if y < HEADER:
            text, style = self._heading, self.get_component_rich_style("rows--heading")
        elif number < len(self.lines):
            text = self.lines[number]
            if number == self.chosen:
                style = self.get_component_rich_style("rows--chosen")
        else:
            return Strip.blank(width, style)
        strip = Strip(text.render(self.app.console), text.cell_len)
        return strip.adjust_cell_length(width).apply_style(style)

    def _choose(self, row: int) -> None:
        row = min(max(row, 0), len(self.lines) - 1)
        if row >= 0 and row != self.chosen:
            self.post_message(self.Chosen(row))

    def action_step(self, steps: int) -> None:
        """So many rows down."""
        self._choose(self.chosen + steps)

    def action_leap(self, ways: int) -> None:
        """As many rows as are in sight."""
        self._choose(self.chosen + ways * max(PAGE, self._room - 1))

    def action_enter(self) -> None:
        """More of this row."""
        self.post_message(self.Entered())

    def on_click(self, event: events.Click) -> None:
        """Choose the row, or enter it if it is chosen."""
        if event.y < HEADER:
            self.post_message(self.HeadingClicked(event.x))
            return
        row = event.y - HEADER + round(self.scroll_offset.y)
        if row == self.chosen:
            self.action_enter()
        elif row < len(self.lines):
            self._choose(row)

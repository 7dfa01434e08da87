"""The live view as a table of any length, for output that is no terminal."""

from rich.text import Text

from wily_sluice.views.live.watch.cells import Layout, longest_name, title
from wily_sluice.views.live.watch.state import Watch


def table(watch: Watch, width: int) -> list[Text]:
    """Its lines; none before the first tick."""
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

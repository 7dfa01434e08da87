"""Framings: the overhead of each layer, and the cost of usual stacks."""

from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.engine.framing import Framing
from wily_sluice.plan.file.framings import COMMON, LAYERS
from wily_sluice.plan.model import Uplink
from wily_sluice.units import format_share
from wily_sluice.views.text.bars import bar
from wily_sluice.views.text.console import fits

LENGTHS = (1500, 576, 100, 40)  # bytes; 40 is a bare acknowledgement of TCP over IPv4
CELLS = {None: "–", "atm": "53 for 48", "ptm": "65 for 64"}


def framing_table(screen: Console, uplinks: Sequence[Uplink]) -> Table:
    """Usual stacks of layers, and those of these uplinks, in bold; on a narrow screen without bars."""
    table = _framing_table(uplinks, LENGTHS, bars=True)
    return table if fits(screen, table) else _framing_table(uplinks, (LENGTHS[0], *LENGTHS[2:]), bars=False)


def _framing_table(uplinks: Sequence[Uplink], lengths: Sequence[int], bars: bool) -> Table:
    table = Table(
        title="Framings: bytes of a packet on the line", title_justify="left", title_style="bold", box=None,
        padding=(0, 1, 0, 0),
        caption="left: the part of the line left for the packets themselves, at 1500 bytes",
        caption_justify="left",
    )  # fmt: skip
    for heading in ("framing", "carried in", "shortest", "adds"):
        table.add_column(heading, justify="left" if heading == "framing" else "right", no_wrap=True)
    for length in lengths:
        table.add_column(f"{length} B", justify="right", no_wrap=True)
    table.add_column("left", no_wrap=True, justify="left" if bars else "right")
    if uplinks:
        table.add_column("uplinks", no_wrap=True)
    rows = {stack.words: stack.framing for stack in COMMON}
    rows |= {u.framed.words: u.framing for u in uplinks}
    for name, framing in rows.items():
        users = [uplink.name for uplink in uplinks if uplink.framed.words == name]
        part = LENGTHS[0] / framing.cost(LENGTHS[0])
        share = format_share(round(part, 3))
        table.add_row(
            Text(name, "bold cyan" if users else "cyan"),
            CELLS[framing.cells],
            str(framing.minimum or "–"),
            str(framing.overhead),
            *(str(framing.cost(length)) for length in lengths),
            Text(f"{bar(part)}{share:>6}" if bars else share, "" if users else "dim"),
            *([Text(", ".join(users), "bold")] if uplinks else []),
            style="bold" if users else "",
        )
    return table


def layer_table() -> Table:
    """The overhead of each layer, with the clause of its standard."""
    table = Table(
        title="Layers, from the packet outward: join them with “over”", title_justify="left", title_style="bold",
        box=None, show_header=False,
    )  # fmt: skip
    for layer in LAYERS:
        table.add_row(Text(layer.word, "cyan", no_wrap=True), layer.adds)
    return table


def framing_data() -> dict[str, Any]:
    """The same for JSON; bytes."""

    def data(framing: Framing) -> dict[str, Any]:
        costs = {str(length): framing.cost(length) for length in LENGTHS}
        return {
            "carried-in": framing.cells,
            "shortest-frame": framing.minimum,
            "frame-adds": framing.overhead,
            "cost": costs,
        }

    return {
        "layers": {layer.word: layer.adds for layer in LAYERS},
        "stacks": {stack.words: data(stack.framing) for stack in COMMON},
    }

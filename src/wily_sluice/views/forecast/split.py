"""The exact split, as a table and as data."""

from collections.abc import Mapping
from typing import Any

from rich.table import Table
from rich.text import Text

from wily_sluice.forecast.split import Share
from wily_sluice.plan.model import Tree, Uplink
from wily_sluice.units import Direction, format_byte_rate, format_rate, format_share
from wily_sluice.views.plan.tree import ARROWS, nested
from wily_sluice.views.text.bars import bar

CAPTION = "Rates are those of frames; goodput is what full packets of TCP over IPv4 leave to the data inside them."
WITH_BYTES, WITH_BARS = 110, 130  # columns that it takes with goodput in bytes, and with bars as well


def split_table(uplink: Uplink, tree: Tree, shares: Mapping[Direction, Mapping[str, Share]], width: int) -> Table:
    """What each queue gets of one uplink in the directions of one tree, side by side; the wider, the more of it."""
    ways = list(shares)
    room = width * 2 if len(ways) == 1 else width
    one_way = f" {ways[0]}" if len(ways) == 1 else ""
    table = Table(
        title=f"{uplink.name}{one_way}, tree {tree.name}: what each queue gets when the line is full",
        title_justify="left", title_style="bold", box=None, padding=(0, 1, 0, 0),
    )  # fmt: skip
    table.add_column("queue", no_wrap=True)
    for direction in ways:
        table.add_column(ARROWS[direction], justify="right", no_wrap=True)
        if room >= WITH_BARS:
            table.add_column("of the line", no_wrap=True)
        table.add_column("goodput", justify="right", no_wrap=True)
        if room >= WITH_BYTES:
            table.add_column("", justify="right", no_wrap=True)
    table.add_column("wants", justify="right", no_wrap=True)
    first = shares[ways[0]]
    for label, path in [(uplink.name, "")] + [(label, spec.path) for label, spec in nested(first[""].spec.children)]:
        leaf = bool(path) and not first[path].spec.children
        cells = []
        for direction in ways:
            share = shares[direction][path]
            style = "bold" if not path else "cyan" if leaf else ""
            part = share.rate / uplink.usable(direction)
            starved = share.rate < 0.5 and share.demand != 0
            goodput = uplink.goodput(share.rate)
            cells.append(Text(format_rate(share.rate), "red" if starved else style))
            if room >= WITH_BARS:
                cells.append(Text(f"{bar(part, 10)}{format_share(round(part, 3)):>6}", "cyan" if leaf else "dim"))
            cells.append(Text(format_rate(goodput), "" if leaf else "dim"))
            if room >= WITH_BYTES:
                cells.append(Text(format_byte_rate(goodput), "" if leaf else "dim"))
        demand = first[path].demand
        wants = "all it can get" if demand is None else format_rate(demand) if demand else "nothing"
        cells.append(Text(wants if leaf else "", "dim"))
        table.add_row(Text(label, "bold" if not path else "cyan" if leaf else ""), *cells)
    return table


def split_data(uplink: Uplink, shares: Mapping[Direction, Mapping[str, Share]]) -> dict[str, Any]:
    """One uplink's split for JSON; rates in bit/s, a demand of null for a queue that takes all it can get."""
    return {
        direction: {
            "usable": uplink.usable(direction),
            "queues": {
                path: {
                    "guarantee": share.spec.guarantee,
                    "cap": share.spec.cap,
                    "demand": share.demand,
                    "rate": round(share.rate),
                    "goodput": round(uplink.goodput(share.rate)),
                }
                for path, share in shares[direction].items()
                if path
            },
        }
        for direction in ("up", "down")
    }

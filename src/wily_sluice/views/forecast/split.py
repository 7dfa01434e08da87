"""The exact split, as a table and as data."""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.forecast.split import Share
from wily_sluice.plan.model import Tree, Uplink
from wily_sluice.units import Direction, format_byte_rate, format_rate, format_share
from wily_sluice.views.plan.tree import nested
from wily_sluice.views.text.arrows import ARROWS
from wily_sluice.views.text.bars import bar
from wily_sluice.views.text.console import fits

CAPTION = "Rates are of frames. Goodput is the data in full packets of TCP over IPv4."
Shares = Mapping[Direction, Mapping[str, Share]]


def split_tables(screen: Console, uplink: Uplink, tree: Tree, shares: Shares) -> list[Table]:
    """The rates of an uplink's queues, with both directions side by side on a wide screen, and more columns the wider
    it is.
    """
    apart = [{way: found} for way, found in shares.items()]
    for parts in ([shares], apart):
        for detail in (2, 1, 0):
            tables = [split_table(uplink, tree, part, detail) for part in parts]
            if fits(screen, *tables):
                return tables
    return [split_table(uplink, tree, part, 0) for part in apart]


def split_table(uplink: Uplink, tree: Tree, shares: Shares, detail: int) -> Table:
    """The same with goodput in bytes from detail 1 on, and bars from 2 on."""
    ways = list(shares)
    one_way = f" {ways[0]}" if len(ways) == 1 else ""
    table = Table(
        title=f"{uplink.name}{one_way}, tree {tree.name}: the rate of each queue on a full uplink",
        title_justify="left", title_style="bold", box=None, padding=(0, 1, 0, 0),
    )  # fmt: skip
    table.add_column("queue", no_wrap=True)
    for direction in ways:
        table.add_column(ARROWS[direction], justify="right", no_wrap=True)
        if detail >= 2:
            table.add_column("of the line", no_wrap=True)
        table.add_column("goodput", justify="right", no_wrap=True)
        if detail >= 1:
            table.add_column("", justify="right", no_wrap=True)
    table.add_column("demand", justify="right")
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
            if detail >= 2:
                cells.append(Text(f"{bar(part, 10)}{format_share(round(part, 3)):>6}", "cyan" if leaf else "dim"))
            cells.append(Text(format_rate(goodput), "" if leaf else "dim"))
            if detail >= 1:
                cells.append(Text(format_byte_rate(goodput), "" if leaf else "dim"))
        demand = first[path].demand
        wants = "all it can" if demand is None else format_rate(demand) if demand else "nothing"
        cells.append(Text(wants if leaf else "", "dim"))
        table.add_row(Text(label, "bold" if not path else "cyan" if leaf else ""), *cells)
    return table


def split_records(shares: Iterable[tuple[Uplink, Shares]]) -> Iterator[dict[str, Any]]:
    """A record for each queue in each direction, for CSV."""
    for uplink, found in shares:
        for way, whole in split_data(uplink, found).items():
            for path, queue in whole["queues"].items():
                yield {"uplink": uplink.name, "direction": way, "queue": path, **queue}


def split_data(uplink: Uplink, shares: Shares) -> dict[str, Any]:
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

"""The exact split, as a table and as data."""

from collections.abc import Mapping
from typing import Any

from rich.table import Table
from rich.text import Text

from wily_sluice.forecast.split import Share
from wily_sluice.plan.model import Uplink
from wily_sluice.units import DIRECTIONS, Direction, format_rate, format_share
from wily_sluice.views.bars import bar
from wily_sluice.views.plan import ARROWS, nested


def share_table(uplink: Uplink, shares: Mapping[Direction, Mapping[str, Share]]) -> Table:
    """What each queue gets of one uplink, both directions side by side; bars are parts of the usable rate."""
    table = Table(
        title=f"{uplink.name}: what each queue gets when the line is full",
        title_justify="left",
        title_style="bold",
        box=None,
    )
    table.add_column("queue", no_wrap=True)
    for direction in DIRECTIONS:
        table.add_column(ARROWS[direction], justify="right", no_wrap=True)
        table.add_column("", no_wrap=True)
        table.add_column("wants", justify="right", no_wrap=True)
    rows = [(uplink.name, "")] + [(label, spec.path) for label, spec in nested(shares["down"][""].spec.children)]
    for label, path in rows:
        cells = []
        for direction in DIRECTIONS:
            share = shares[direction][path]
            leaf = path and not share.spec.children
            style = "bold" if not path else "cyan" if leaf else ""
            part = share.rate / uplink.usable(direction)
            wants = (
                "all it can get" if share.demand is None else format_rate(share.demand) if share.demand else "nothing"
            )
            starved = share.rate < 0.5 and share.demand != 0
            cells += [
                Text(format_rate(share.rate), "red" if starved else style),
                Text(f"{bar(part)}{format_share(round(part, 3)):>6}", "cyan" if leaf else "dim"),
                Text(wants if leaf else "", "dim"),
            ]
        table.add_row(Text(label, "bold" if not path else "" if shares["down"][path].spec.children else "cyan"), *cells)
    return table


def share_data(uplink: Uplink, shares: Mapping[Direction, Mapping[str, Share]]) -> dict[str, Any]:
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
                }
                for path, share in shares[direction].items()
                if path
            },
        }
        for direction in ("up", "down")
    }

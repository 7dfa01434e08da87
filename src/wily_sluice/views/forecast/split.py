"""The exact split with its reasons, as tables, sentences and data."""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.split import Share, usable
from wily_sluice.forecast.why import Step
from wily_sluice.plan.model import Tree, Uplink
from wily_sluice.units import Direction, format_byte_rate, format_rate, format_rate_both, format_share
from wily_sluice.views.plan.tree import nested
from wily_sluice.views.text.console import ARROWS, bar, fits

CAPTION = "Rates are of frames. Goodput is the data in full packets of TCP over IPv4."
Shares = Mapping[Direction, Mapping[str, Share]]


def split_tables(screen: Console, uplink: Uplink, tree: Tree, shares: Shares) -> list[Table]:
    """The rates of an uplink's queues, with both directions side by side on a wide screen, and more columns the wider
    it is.
    """
    apart = [{way: share} for way, share in shares.items()]
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
    for uplink, shares_of_uplink in shares:
        for way, whole in split_data(uplink, shares_of_uplink).items():
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


ROUNDING = 4  # bit/s


def _names(shares: tuple[Share, ...]) -> str:
    names = [share.spec.path for share in shares]
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def _weights(spec: QueueSpec, peers: tuple[Share, ...]) -> str:
    """`scans 2, play 1, desk 4`: a queue's weight and those of its peers that want something."""
    return ", ".join(
        f"{queue.path} {queue.weight:g}" for queue in (spec, *(peer.spec for peer in peers if peer.want > 0))
    )


def step_sentence(step: Step, line: str) -> str:
    """One level of the split; `line` is the name of the root."""
    share, spec = step.share, step.share.spec
    above = step.parent.spec.path or line
    whole = step.parent.rate if step.parent.spec.path else step.parent.spec.cap
    text = f"{spec.path} gets {format_rate_both(share.rate)} of the {format_rate(whole)} of {above}. "
    wasted = step.parent.spec.cap - usable(step.parent.spec)
    if wasted > ROUNDING:
        text += f"{format_rate(wasted)} of {above} can never be used: the caps below it add up to less. "
    if spec.guarantee and share.guaranteed >= spec.guarantee:
        text += f"Its guarantee of {format_rate(spec.guarantee)} comes first. "
    elif spec.guarantee:
        text += f"It uses {format_rate(share.want)} of its guarantee of {format_rate(spec.guarantee)}. "
    else:
        text += "It has no guarantee. "
    if step.curve and step.extra >= 0.5:
        text += f"{above} divides its whole rate by weight, but each child gets at least its guarantee"
        text += f" ({_weights(spec, step.peers)})" if step.peers else ""
        text += f". This adds {format_rate(step.extra)}. "
    elif step.extra >= 0.5:
        text += f"{format_rate(share.offered)} are left at priority {spec.priority}"
        if step.peers:
            text += f", shared with {_names(step.peers)} by weight ({_weights(spec, step.peers)})"
        text += f"; its share is {format_rate(step.extra)}. "
    if step.held == "cap":
        return text + f"Its cap of {format_rate(spec.cap)} limits it."
    if step.held == "demand":
        return text + "That is all it wants."
    if step.held == "others":
        return text + "The others get the rest."
    if step.curve:
        return text + "Its share by weight would be less, so it gets just the guarantee."
    if step.earlier and share.offered < 0.5:
        return text + f"Nothing is left at priority {spec.priority}: {_names(step.earlier)} come first."
    return text + "Nothing more is left."


def why_data(steps: Mapping[tuple[str, Direction], list[Step]]) -> dict[str, Any]:
    """The steps for JSON, by uplink and direction, from the line down; rates in bit/s."""
    data: dict[str, Any] = {}
    for (uplink, direction), way in steps.items():
        data.setdefault(uplink, {})[direction] = [
            {
                "queue": step.share.spec.path,
                "rate": round(step.share.rate),
                "guaranteed": round(step.share.guaranteed),
                "offered": round(step.share.offered),
                "extra": round(step.extra),
                "held": step.held,
            }
            for step in way
        ]
    return data


def worst_sentence(share: Share, direction: str, line: str, strict: str = "") -> str:
    """The rate left for a queue when all others are busy; `strict` is its parent, if that is strict."""
    path = share.spec.path
    worst = f"{line} {direction}: {path} gets least when every other queue takes all it can."
    if share.rate < 0.5:
        remedy = f"Make {strict} weighted and give it a guarantee" if strict else "A guarantee would prevent this"
        return f"{worst} It then gets nothing and can starve. {remedy}."
    return f"{worst} It still gets {format_rate_both(share.rate)}."

"""The parts of a plan, as tables and as data."""

from collections.abc import Iterator
from typing import Any

from rich.console import Console, RenderableType
from rich.table import Table
from rich.text import Text

from wily_sluice.engine.spec import QueueSpec
from wily_sluice.plan.model import Plan, Queue, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.units import DIRECTIONS, format_rate, format_size, format_time
from wily_sluice.views.bars import range_bar
from wily_sluice.views.sentences import (
    default_sentence,
    limiter_sentence,
    network_sentence,
    rule_sentence,
    uplink_sentence,
)

WITH_BARS = 140  # columns that the tree takes with its bars
ARROWS = {"down": "↓ down", "up": "↑ up"}


def nested(specs: tuple[QueueSpec, ...], lead: str = "") -> Iterator[tuple[str, QueueSpec]]:
    """Queues in the order of the plan, each with its name behind the lines that show what it is nested in."""
    for place, spec in enumerate(specs):
        last = place == len(specs) - 1
        yield f"{lead}{'└ ' if last else '├ '}{spec.path.rpartition('/')[2]}", spec
        yield from nested(spec.children, lead + ("  " if last else "│ "))


def leaf_words(queue: Queue) -> str:
    """How a leaf holds packets: `codel, at most 200 packets, default`."""
    leaf = queue.leaf
    words: list[str] = [leaf.aqm]
    if leaf.most_packets is not None:
        words.append(f"at most {leaf.most_packets} packets")
    elif leaf.most_bytes is not None:
        words.append(f"at most {format_size(leaf.most_bytes)}")
    elif leaf.longest is not None:
        words.append(f"at most {format_time(leaf.longest)}")
    return ", ".join([*words, "default"] if queue.default else words)


def tree_table(plan: Plan, uplink: Uplink, bars: bool) -> Table:
    """The tree with every rate worked out, in both directions; with `bars`, as parts of the line as well."""
    table = Table(title=f"{plan.tree.name} on {uplink.name}", title_justify="left", title_style="bold", box=None)
    table.add_column("queue", no_wrap=True)
    for direction in DIRECTIONS:
        table.add_column(f"{ARROWS[direction]}\nguarantee", justify="right", no_wrap=True)
        table.add_column("\ncap", justify="right", no_wrap=True)
        if bars:
            table.add_column("\nof the line", no_wrap=True, style="cyan")
    table.add_column("priority", justify="right")
    table.add_column("weight", justify="right")
    table.add_column("discipline", no_wrap=True)
    specs = {direction: resolve(plan, uplink, direction) for direction in DIRECTIONS}
    queues = {queue.path: queue for queue in plan.tree.walk()}
    rates = {direction: {spec.path: spec for spec in specs[direction].walk()} for direction in DIRECTIONS}
    whole: list[RenderableType] = []
    for direction in DIRECTIONS:
        whole += [format_rate(uplink.usable(direction))] * 2
        whole += [Text(range_bar(1, 1), "dim")] if bars else []
    table.add_row(Text(uplink.name, "bold"), *whole, "", "", plan.tree.discipline, style="bold")
    for label, spec in nested(specs["down"].children):
        queue = queues[spec.path]
        cells: list[RenderableType] = []
        for direction in DIRECTIONS:
            own = rates[direction][spec.path]
            cells.append(format_rate(own.guarantee) if own.guarantee else Text("–", "dim"))
            cells.append(Text(format_rate(own.cap), "" if queue.cap.of(direction) else "dim"))
            if bars:
                line = uplink.usable(direction)
                cells.append(Text(range_bar(own.guarantee / line, own.cap / line), "dim" if queue.children else ""))
        kind = queue.discipline if queue.children else leaf_words(queue)
        table.add_row(
            Text(label, "" if spec.children else "cyan"), *cells, str(queue.priority), f"{queue.weight:g}", kind
        )
    return table


def _sentences(title: str, rows: list[tuple[str, str]]) -> Table:
    table = Table(title=title, title_justify="left", title_style="bold", box=None, show_header=False, padding=(0, 1))
    table.add_column(style="cyan", no_wrap=True)
    table.add_column()
    for name, sentence in rows:
        table.add_row(name, sentence)
    return table


def part_tables(plan: Plan, width: int) -> dict[str, list[RenderableType]]:
    """What there is to show, by the name of the part, in the order in which all of it is shown."""
    rules = [(f"{place}. {rule.name}", rule_sentence(rule)) for place, rule in enumerate(plan.rules, 1)]
    return {
        "uplinks": [_sentences("Uplinks", [(u.name, uplink_sentence(u)) for u in plan.uplinks])],
        "networks": [_sentences("Networks", [(n.name, network_sentence(n)) for n in plan.networks])],
        "groups": [_sentences("Groups", [(name, str(members)) for name, members in plan.groups.items()])],
        "tree": [tree_table(plan, uplink, width >= WITH_BARS) for uplink in plan.uplinks],
        "limiters": [_sentences("Limiters", [(lim.name, limiter_sentence(lim)) for lim in plan.limiters])],
        "rules": [_sentences("Rules, the first that matches decides", [*rules, ("", default_sentence(plan))])],
    }


def print_parts(console: Console, plan: Plan, parts: list[str]) -> None:
    """Print some parts of a plan, a blank line between."""
    tables = [table for part in parts for table in part_tables(plan, console.width)[part]]
    for place, table in enumerate(tables):
        if place:
            console.print()
        console.print(table)


def _queue_data(plan: Plan, queue: Queue) -> dict[str, Any]:
    data: dict[str, Any] = {"priority": queue.priority, "weight": queue.weight, "default": queue.default}
    for uplink in plan.uplinks:
        data[uplink.name] = {}
        for direction in DIRECTIONS:
            spec = next(s for s in resolve(plan, uplink, direction).walk() if s.path == queue.path)
            data[uplink.name][direction] = {"guarantee": spec.guarantee, "cap": spec.cap}
    return data


def part_data(plan: Plan) -> dict[str, Any]:
    """The parts of a plan for JSON; rates in bit/s."""
    return {
        "uplinks": {
            u.name: {
                "interface": u.interface,
                "headroom": u.headroom,
                "framing": u.framed.words,
                "cost": {str(length): u.framing.cost(length) for length in (100, 1500)},
                **{
                    d: {"measured": u.measured(d), "usable": u.usable(d), "goodput": round(u.goodput(u.usable(d)))}
                    for d in DIRECTIONS
                },
            }
            for u in plan.uplinks
        },
        "networks": {n.name: {"interface": n.interface, "subnets": list(n.subnets)} for n in plan.networks},
        "groups": {name: str(members).split(", ") for name, members in plan.groups.items()},
        "tree": {queue.path: _queue_data(plan, queue) for queue in plan.tree.walk()},
        "limiters": {
            lim.name: {"local": lim.local.words, "per": "host" if lim.per_host else "together"}
            | {d: lim.rate(d) for d in DIRECTIONS}
            for lim in plan.limiters
        },
        "rules": [{"name": rule.name, "queue": rule.queue, "sentence": rule_sentence(rule)} for rule in plan.rules],
    }

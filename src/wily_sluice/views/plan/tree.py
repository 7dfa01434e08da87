"""A tree of queues as a table and as data: rates worked out, as parts of the line, and how long a packet may wait."""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from rich.console import Console, RenderableType
from rich.table import Table
from rich.text import Text

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.why import Wait, waits
from wily_sluice.plan.model import Plan, Queue, Tree, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.units import DIRECTIONS, Direction, format_rate, format_size, format_time
from wily_sluice.views.text.console import ARROWS, fits, range_bar

BAR = 10
BARS = "█ guarantee, ─ up to the cap, as parts of the line. "
WAIT = "delay: the longest under full load, for responsive traffic … for any traffic in a full leaf"
DELAY = "; where a queue has a delay, of a packet within the guarantee"


def nested(specs: tuple[QueueSpec, ...], lead: str = "") -> Iterator[tuple[str, QueueSpec]]:
    """Queues in the order of the plan, each with its name and the lines of its nesting."""
    for index, spec in enumerate(specs):
        last = index == len(specs) - 1
        yield f"{lead}{'└ ' if last else '├ '}{spec.path.rpartition('/')[2]}", spec
        yield from nested(spec.children, lead + ("  " if last else "│ "))


def leaf_words(queue: Queue) -> str:
    """How a leaf holds packets: `codel, at most 200 packets, default`."""
    leaf = queue.leaf
    words: list[str] = [leaf.aqm + (" by host" if leaf.fair_by == "host" else "")]
    if leaf.delay is not None:
        words.append(f"delay {format_time(leaf.delay)}")
    if leaf.most_packets is not None:
        words.append(f"{leaf.most_packets} packets")
    elif leaf.most_bytes is not None:
        words.append(format_size(leaf.most_bytes))
    elif leaf.longest is not None:
        words.append(format_time(leaf.longest))
    if not leaf.ecn and leaf.aqm != "fifo":
        words.append("no ECN")
    return ", ".join([*words, "default"] if queue.default else words)


def wait_words(wait: Wait) -> str:
    """`10 ms`, or `5 ms … 1 s`."""
    if wait.promised is not None:
        return format_time(wait.promised)
    if wait.full is None:
        return "for ever"
    return format_time(wait.full) if wait.settled is None else f"{format_time(wait.settled)} … {format_time(wait.full)}"


def tree_tables(screen: Console, plan: Plan, uplink: Uplink, tree: Tree, ways: Sequence[Direction]) -> list[Table]:
    """A tree of an uplink: both directions side by side on a wide screen, otherwise one below the other, then the parts
    that do not depend on the direction.
    """
    for bars in (True, False):
        if fits(screen, table := tree_table(plan, uplink, tree, ways, bars)):
            return [table]
    for bars in (True, False):
        if fits(screen, *(tables := [tree_table(plan, uplink, tree, (way,), bars) for way in ways])):
            return tables
    for bars in (True, False):
        tables = [tree_table(plan, uplink, tree, (way,), bars, details=False) for way in ways]
        if fits(screen, *tables):
            break
    return [*tables, _details_table(plan, uplink, tree, ways[0])]


def tree_caption(plan: Plan, bars: bool) -> str:
    """The legend of the symbols and figures in the tables."""
    delays = any(leaf.leaf.delay is not None for tree in plan.trees.values() for leaf in tree.leaves)
    return BARS * bars + WAIT + DELAY * delays + "."


def tree_table(
    plan: Plan, uplink: Uplink, tree: Tree, ways: Sequence[Direction], bars: bool, details: bool = True
) -> Table:
    """A tree of an uplink, for some of the directions that it is for."""
    title = f"{tree.name} on {uplink.name}" + (f" {ways[0]}" if len(ways) == 1 else "")
    table = Table(title=title, title_justify="left", title_style="bold", box=None, padding=(0, 1, 0, 0))
    table.add_column("queue", no_wrap=True)
    for direction in ways:
        table.add_column(f"{ARROWS[direction]}\nguarantee", justify="right", no_wrap=True)
        table.add_column("\ncap", justify="right", no_wrap=True)
        if bars:
            table.add_column("\nof the line", no_wrap=True, style="cyan")
        table.add_column("\ndelay", justify="right", no_wrap=True)
    if details:
        _add_details(table)
    specs = {direction: resolve(plan, uplink, direction) for direction in ways}
    queues = {queue.path: queue for queue in tree.walk()}
    rates = {direction: {spec.path: spec for spec in specs[direction].walk()} for direction in ways}
    wait = {direction: waits(specs[direction]) for direction in ways}
    whole: list[RenderableType] = []
    for direction in ways:
        whole += [format_rate(uplink.usable(direction))] * 2
        whole += [Text(range_bar(1, 1, BAR), "dim")] if bars else []
        whole += [""]
    last: list[RenderableType] = ["", "", tree.discipline] if details else []
    table.add_row(Text(uplink.name, "bold"), *whole, *last, style="bold")
    for label, spec in nested(specs[ways[0]].children):
        queue = queues[spec.path]
        cells: list[RenderableType] = []
        for direction in ways:
            own = rates[direction][spec.path]
            if own.leaf.refused:
                cells += [Text("–", "dim"), Text("refused", "yellow"), *([""] if bars else []), ""]
                continue
            cells.append(format_rate(own.guarantee) if own.guarantee else Text("–", "dim"))
            cells.append(Text(format_rate(own.cap), "" if queue.cap.of(direction) else "dim"))
            if bars:
                line = uplink.usable(direction)
                cells.append(
                    Text(range_bar(own.guarantee / line, own.cap / line, BAR), "dim" if queue.children else "")
                )
            cells.append("" if queue.children else wait_words(wait[direction][spec.path]))
        last = _detail_cells(tree, queues, queue) if details else []
        table.add_row(Text(label, "" if spec.children else "cyan"), *cells, *last)
    return table


def _add_details(table: Table) -> None:
    table.add_column("priority", justify="right", no_wrap=True)
    table.add_column("weight", justify="right", no_wrap=True)
    table.add_column("discipline")


def _detail_cells(tree: Tree, queues: Mapping[str, Queue], queue: Queue) -> list[RenderableType]:
    above = queue.path.rpartition("/")[0]
    discipline = queues[above].discipline if above else tree.discipline
    priority = Text("–", "dim") if discipline == "curve" else str(queue.priority)
    return [priority, f"{queue.weight:g}", queue.discipline if queue.children else leaf_words(queue)]


def _details_table(plan: Plan, uplink: Uplink, tree: Tree, way: Direction) -> Table:
    """A separate table of values that do not depend on the direction."""
    table = Table(box=None, padding=(0, 1, 0, 0))
    table.add_column("queue", no_wrap=True)
    _add_details(table)
    table.add_row(Text(uplink.name, "bold"), "", "", tree.discipline, style="bold")
    queues = {queue.path: queue for queue in tree.walk()}
    for label, spec in nested(resolve(plan, uplink, way).children):
        cells = _detail_cells(tree, queues, queues[spec.path])
        table.add_row(Text(label, "" if spec.children else "cyan"), *cells)
    return table


def tree_data(plan: Plan, uplink: Uplink) -> dict[str, Any]:
    """An uplink's trees for JSON, by direction; rates in bit/s, times in ns."""
    data: dict[str, Any] = {}
    for direction in DIRECTIONS:
        tree = plan.tree(uplink, direction)
        spec = resolve(plan, uplink, direction)
        wait = waits(spec)
        queues = {queue.path: queue for queue in tree.walk()}
        data[direction] = {"tree": tree.name, "discipline": tree.discipline, "usable": spec.cap, "queues": {}}
        for own in spec.walk():
            if own.path:
                queue = queues[own.path]
                data[direction]["queues"][own.path] = {
                    "guarantee": own.guarantee,
                    "cap": own.cap,
                    "priority": own.priority,
                    "weight": own.weight,
                    **({"discipline": own.discipline} if own.children else _leaf_data(queue, wait[own.path])),
                }
    return data


def _leaf_data(queue: Queue, wait: Wait) -> dict[str, Any]:
    return {
        "aqm": queue.leaf.aqm,
        "fair_by": queue.leaf.fair_by,
        "ecn": queue.leaf.ecn and queue.leaf.aqm != "fifo",
        "default": queue.default,
        "delay": {"promised": wait.promised, "settled": wait.settled, "full": wait.full},
    }

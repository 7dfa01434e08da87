"""`sluice split`."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from wily_sluice.cli.options import (
    choose_uplinks,
    csv_option,
    json_option,
    names_in_plan,
    plan_from,
    queue_paths,
    uplink_option,
)
from wily_sluice.forecast.split import Share
from wily_sluice.forecast.split import split as split_among
from wily_sluice.forecast.why import why
from wily_sluice.outside.files import load
from wily_sluice.plan.file.words import suggestion
from wily_sluice.plan.model import Plan, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.units import DIRECTIONS, HIGHEST_RATE, Direction, Rate, parse_rate
from wily_sluice.views.forecast.split import (
    CAPTION,
    split_data,
    split_records,
    split_tables,
    step_sentence,
    why_data,
    worst_sentence,
)
from wily_sluice.views.text.console import ARROWS, console, print_json, print_line, records_csv


class Demand(click.ParamType[tuple[str, Rate]]):
    """`QUEUE=RATE`."""

    name = "demand"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, Rate]:
        """The queue's path and its rate in bit/s; a rate of 0 says that it is idle."""
        queue, equals, rate = str(value).partition("=")
        if not equals or not queue:
            self.fail(f"“{value}” is not QUEUE=RATE: write it like visitors='2 Mbit/s' or visitors=idle", param, ctx)
        if rate.strip() in ("0", "idle"):
            return queue.strip(), 0
        try:
            return queue.strip(), HIGHEST_RATE if rate.strip() == "max" else parse_rate(rate)
        except ValueError as error:
            self.fail(str(error), param, ctx)


@click.command()
@plan_from()
@uplink_option
@click.option(
    "--demand",
    "demands",
    type=Demand(),
    multiple=True,
    metavar="QUEUE=RATE",
    help="The demand of a leaf in both directions: a rate, idle or max. Can be repeated.",
    shell_complete=names_in_plan(lambda plan: [f"{path}=" for path in queue_paths(plan)]),
)
@click.option(
    "--why",
    "explained",
    metavar="QUEUE",
    shell_complete=names_in_plan(queue_paths),
    help="Explain this queue's rate step by step.",
)
@click.option(
    "--worst",
    metavar="QUEUE",
    shell_complete=names_in_plan(queue_paths),
    help="Show the rate left for this leaf when all others take as much as they can.",
)
@csv_option
@json_option
def split(
    plan_file: Path,
    uplink: str | None,
    demands: tuple[tuple[str, Rate], ...],
    explained: str | None,
    worst: str | None,
    as_csv: bool,
    as_json: bool,
) -> None:
    """Compute the rate of each queue on a full uplink.

    The result is exact. By default every leaf takes as much as it can; --demand gives a leaf's demand. At each level,
    guarantees come first. The rest is offered by priority, and among equals by weight, up to each queue's cap.

    \b
    Examples:
      sluice split
      sluice split --demand calls='600 kbit/s' --demand play=idle --json
      sluice split --demand calls=idle --why work/desk
      sluice split surgery.yaml --worst visitors
    """
    plan = load(plan_file)
    chosen = choose_uplinks(plan, uplink)
    trees = {tree.name: tree for u in chosen for tree, _ in plan.trees_of(u)}
    leaves = list(dict.fromkeys(leaf.path for tree in trees.values() for leaf in tree.leaves))
    queues = list(dict.fromkeys(queue.path for tree in trees.values() for queue in tree.walk()))
    demands = tuple((_find(queue, leaves, queues, "--demand"), rate) for queue, rate in demands)
    explained = _find(explained, queues, queues, "--why") if explained is not None else None
    worst = _find(worst, leaves, queues, "--worst") if worst is not None else None
    # A wish for more than there is, is a wish for all: the queue is hungry.
    wishes = {queue: rate for queue, rate in demands if rate < HIGHEST_RATE}
    shares = [(u, {d: _split(plan, u, d, wishes) for d in DIRECTIONS}) for u in chosen]
    # Where an uplink has other trees, or another one in each direction, not all of them have the queue.
    steps = {
        (u.name, d): why(explained, s[d]) for u, s in shares for d in DIRECTIONS if explained and explained in s[d]
    }
    worst_of = {
        (u.name, d): split_of_line
        for u in chosen
        for d in DIRECTIONS
        if worst and (split_of_line := _split(plan, u, d, {}).get(worst))
    }
    if as_json:
        data: dict[str, Any] = {"uplinks": {u.name: split_data(u, results) for u, results in shares}}
        if explained is not None:
            data["why"] = {explained: why_data(steps)}
        if worst is not None:
            rates = {
                u.name: {d: round(worst_of[u.name, d].rate) for d in DIRECTIONS if (u.name, d) in worst_of}
                for u in chosen
            }
            data["worst"] = {worst: {name: rate for name, rate in rates.items() if rate}}
        print_json(data)
        return
    if as_csv:
        if explained is not None or worst is not None:
            raise click.UsageError("--csv prints the table of all queues: leave --why and --worst out")
        click.echo(records_csv(split_records(shares)), nl=False)
        return
    screen = console()
    for u, results in shares:
        if explained is None and worst is None:
            for tree, ways in plan.trees_of(u):
                for table in split_tables(screen, u, tree, {d: results[d] for d in ways}):
                    screen.print(table)
                    screen.print()
        for d in DIRECTIONS:
            if (u.name, d) in steps:
                screen.print(f"{u.name} {ARROWS[d]}", style="bold")
                for step in steps[u.name, d]:
                    print_line(screen, step_sentence(step, u.name))
            if (u.name, d) in worst_of:
                above = results[d][worst_of[u.name, d].spec.path.rpartition("/")[0]].spec
                strict = (above.path or u.name) if above.discipline == "strict" else ""
                print_line(screen, worst_sentence(worst_of[u.name, d], d, u.name, strict))
    if explained is None and worst is None:
        print_line(screen, Text(CAPTION, "dim"))


def _split(plan: Plan, uplink: Uplink, direction: Direction, wishes: Mapping[str, Rate]) -> dict[str, Share]:
    """The split under those of the wishes whose leaves this tree has. The worst for a leaf is that there are none."""
    here = {leaf.path for leaf in plan.tree(uplink, direction).leaves}
    return split_among(resolve(plan, uplink, direction), {path: rate for path, rate in wishes.items() if path in here})


def _find(queue: str, known: list[str], queues: list[str], option: str) -> str:
    """The path of a queue, from its path or its last part; `known` are the candidates."""
    if queue in known:
        return queue
    named = [path for path in known if path.rpartition("/")[2] == queue]
    if len(named) == 1:
        return named[0]
    if named:
        raise click.BadParameter(f"several queues are called “{queue}”: write {' or '.join(named)}", param_hint=option)
    parents = [path for path in queues if queue in (path, path.rpartition("/")[2])]
    if parents:
        below = ", ".join(path for path in known if path.startswith(f"{parents[0]}/"))
        raise click.BadParameter(f"“{queue}” is a parent: name one of its leaves, {below}", param_hint=option)
    raise click.BadParameter(f"there is no queue “{queue}”: {suggestion(queue, known)}", param_hint=option)

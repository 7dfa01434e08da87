"""`sluice share`."""

from pathlib import Path
from typing import Any

import click

from wily_sluice.cli.options import choose_uplinks, json_option, plan_option
from wily_sluice.forecast.split import Share, split
from wily_sluice.forecast.why import why
from wily_sluice.plan.document import suggestion
from wily_sluice.plan.model import Plan, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.read import load
from wily_sluice.units import DIRECTIONS, HIGHEST_RATE, Direction, Rate, parse_rate
from wily_sluice.views.console import console, print_json, print_line
from wily_sluice.views.plan import ARROWS
from wily_sluice.views.share import share_data, share_table
from wily_sluice.views.why import step_sentence, why_data, worst_sentence


class Demand(click.ParamType[tuple[str, Rate]]):
    """`QUEUE=RATE`."""

    name = "demand"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, Rate]:
        """The queue's path and its rate in bit/s; a rate of 0 says that it is idle."""
        queue, equals, rate = str(value).partition("=")
        if not equals or not queue:
            self.fail(f"“{value}” is not QUEUE=RATE: write it like visitors='2 Mbit/s', or visitors=0", param, ctx)
        if rate.strip() in ("0", "idle"):
            return queue.strip(), 0
        try:
            return queue.strip(), HIGHEST_RATE if rate.strip() == "max" else parse_rate(rate)
        except ValueError as error:
            self.fail(str(error), param, ctx)


@click.command()
@plan_option
@click.option("--uplink", metavar="NAME", help="Only this uplink.")
@click.option(
    "--demand",
    "demands",
    type=Demand(),
    multiple=True,
    metavar="QUEUE=RATE",
    help="What a leaf wants, in both directions: a rate, idle or max. May be given for several.",
)
@click.option("--why", "explained", metavar="QUEUE", help="Say where each part of this queue's rate comes from.")
@click.option("--worst", metavar="QUEUE", help="Say what this leaf still gets when all others take all they can.")
@json_option
def share(
    plan_file: Path,
    uplink: str | None,
    demands: tuple[tuple[str, Rate], ...],
    explained: str | None,
    worst: str | None,
    as_json: bool,
) -> None:
    """Work out exactly what each queue gets when the line is full.

    Every leaf takes all it can get, unless a demand is given for it. At each level, guarantees come first; what is
    left goes by priority, and among equals by weight, up to each queue's cap.

    \b
    Examples:
      sluice share
      sluice share --demand calls='600 kbit/s' --demand play=idle --json
      sluice share --demand calls=idle --why work/desk
      sluice share --worst visitors
    """
    plan = load(plan_file)
    leaves = [leaf.path for leaf in plan.tree.leaves]
    queues = [queue.path for queue in plan.tree.walk()]
    for queue, _ in demands:
        _require(queue, leaves, "--demand")
    _require(explained, queues, "--why")
    _require(worst, leaves, "--worst")
    chosen = choose_uplinks(plan, uplink)
    # A wish for more than there is, is a wish for all: the queue is hungry.
    wishes = {queue: rate for queue, rate in demands if rate < HIGHEST_RATE}
    shares = [(u, {d: split(resolve(plan, u, d), wishes) for d in DIRECTIONS}) for u in chosen]
    steps = (
        {}
        if explained is None
        else {(u.name, d): why(explained, results[d]) for u, results in shares for d in DIRECTIONS}
    )
    if as_json:
        data: dict[str, Any] = {"uplinks": {u.name: share_data(u, results) for u, results in shares}}
        if explained is not None:
            data["why"] = {explained: why_data(steps)}
        if worst is not None:
            data["worst"] = {
                worst: {u.name: {d: round(_worst(plan, u, d, worst).rate) for d in DIRECTIONS} for u in chosen}
            }
        print_json(data)
        return
    screen = console()
    for u, results in shares:
        if explained is None and worst is None:
            screen.print(share_table(u, results))
        for d in DIRECTIONS:
            if explained is not None:
                screen.print(f"{u.name} {ARROWS[d]}", style="bold")
                for step in steps[u.name, d]:
                    print_line(screen, step_sentence(step, u.name))
            if worst is not None:
                print_line(screen, worst_sentence(_worst(plan, u, d, worst), d, u.name))


def _worst(plan: Plan, uplink: Uplink, direction: Direction, queue: str) -> Share:
    """A leaf's share when all others are hungry, which is the worst for it: the more they want, the less is left."""
    return split(resolve(plan, uplink, direction), {})[queue]


def _require(queue: str | None, known: list[str], option: str) -> None:
    if queue is not None and queue not in known:
        raise click.BadParameter(f"no queue here is called “{queue}”: {suggestion(queue, known)}", param_hint=option)

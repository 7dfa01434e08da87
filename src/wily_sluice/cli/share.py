"""`sluice share`."""

from pathlib import Path

import click

from wily_sluice.cli.options import choose_uplinks, json_option, plan_option
from wily_sluice.forecast.split import split
from wily_sluice.plan.document import suggestion
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.read import load
from wily_sluice.units import DIRECTIONS, Rate, parse_rate
from wily_sluice.views.console import console, print_json
from wily_sluice.views.share import share_data, share_table


class Demand(click.ParamType[tuple[str, Rate]]):
    """`QUEUE=RATE`."""

    name = "demand"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, Rate]:
        """The queue's path and its rate in bit/s; a rate of 0 says that it is idle."""
        queue, equals, rate = str(value).partition("=")
        if not equals or not queue:
            self.fail(f"“{value}” is not QUEUE=RATE: write it like visitors='2 Mbit/s', or visitors=0", param, ctx)
        try:
            return queue.strip(), 0 if rate.strip() == "0" else parse_rate(rate)
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
    help="What a leaf wants, in both directions; 0 for nothing. May be given for several.",
)
@json_option
def share(plan_file: Path, uplink: str | None, demands: tuple[tuple[str, Rate], ...], as_json: bool) -> None:
    """Work out exactly what each queue gets when the line is full.

    Every leaf takes all it can get, unless a demand is given for it. At each level, guarantees come first; what is
    left goes by priority, and among equals by weight, up to each queue's cap.

    \b
    Examples:
      sluice share
      sluice share --demand calls='600 kbit/s' --demand play=0 --json
    """
    plan = load(plan_file)
    leaves = [leaf.path for leaf in plan.tree.leaves]
    for queue, _ in demands:
        if queue not in leaves:
            raise click.BadParameter(f"no leaf is called “{queue}”: {suggestion(queue, leaves)}", param_hint="--demand")
    chosen = choose_uplinks(plan, uplink)
    results = [(u, {d: split(resolve(plan, u, d), dict(demands)) for d in DIRECTIONS}) for u in chosen]
    if as_json:
        print_json({"uplinks": {u.name: share_data(u, shares) for u, shares in results}})
        return
    screen = console()
    for u, shares in results:
        screen.print(share_table(u, shares))

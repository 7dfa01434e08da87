"""`sluice lab`: the simulation."""

from datetime import datetime
from pathlib import Path

import click
from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

from wily_sluice.cli.options import at_option, csv_option, json_option, plan_from, read_at
from wily_sluice.forecast.lab.run import Comparison
from wily_sluice.forecast.lab.traffic import Traffic
from wily_sluice.outside.files import load, load_traffic
from wily_sluice.outside.lab import compare
from wily_sluice.plan.model import Plan
from wily_sluice.views.forecast.lab import lab_csv, lab_data, print_lab
from wily_sluice.views.text.console import console, print_json


@click.group()
def lab() -> None:
    """Simulate your traffic before and after the plan; no packet is sent.

    A simulation takes seconds. For real packets between namespaces of this machine, see `sluice rig`.

    \b
    Example:
      sluice lab run afternoon.yaml surgery.yaml
    """


def compare_with_progress(plan: Plan, traffic: Traffic, begin: datetime | None = None) -> Comparison:
    """Both runs, with a bar on a terminal while they last."""
    columns = (TextColumn("simulating"), BarColumn(40), TextColumn("{task.percentage:>3.0f}%"), TimeRemainingColumn())
    screen = console(stderr=True)
    with Progress(*columns, console=screen, transient=True, disable=not screen.is_terminal) as progress:
        task = progress.add_task("simulating", total=1.0)
        return compare(plan, traffic, lambda part: progress.update(task, completed=part), begin)


@lab.command()
@click.argument("traffic", metavar="TRAFFIC", type=click.Path(path_type=Path))
@plan_from()
@at_option("Start at this time, in the site's time zone, and follow the schedules; by default all hold.")
@click.option("--delays", is_flag=True, help="With --json: also single delays, which `sluice compare` draws from.")
@csv_option
@json_option
def run(traffic: Path, plan_file: Path, at: str | None, delays: bool, as_csv: bool, as_json: bool) -> None:
    """Run a traffic file twice: without shaping, and with the plan.

    Before: the line alone, with its deep first-in-first-out buffer. After: the same line behind the gate's own engine.
    One table shows both. The same files and seed give the same figures.

    \b
    Examples:
      sluice lab run afternoon.yaml
      sluice lab run afternoon.yaml --at 2027-03-25T14:30
      sluice lab run afternoon.yaml surgery.yaml --csv
      sluice lab run afternoon.yaml --json --delays > today.json
    """
    plan = load(plan_file)
    comparison = compare_with_progress(plan, load_traffic(traffic, plan), read_at(plan, at))
    if as_json:
        print_json(lab_data(comparison, delays))
    elif as_csv:
        click.echo(lab_csv(comparison), nl=False)
    else:
        print_lab(console(), comparison)

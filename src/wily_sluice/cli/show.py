"""`sluice show`."""

from pathlib import Path

import click

from wily_sluice.cli.options import json_option, plan_option
from wily_sluice.plan.read import load
from wily_sluice.views.console import console, print_json
from wily_sluice.views.plan import part_data, print_parts

PARTS = ["uplinks", "networks", "groups", "tree", "limiters", "rules"]
ALSO = ["framings"]  # shown when asked for


@click.command()
@click.argument("part", type=click.Choice([*PARTS, *ALSO]), required=False)
@plan_option
@json_option
def show(part: str | None, plan_file: Path, as_json: bool) -> None:
    """Show a plan as it is understood: every rate worked out, rules and limiters as sentences.

    Without PART, all of it.

    \b
    Examples:
      sluice show tree
      sluice show framings
      sluice show rules --plan surgery.yaml
    """
    plan = load(plan_file)
    if as_json:
        data = part_data(plan)
        print_json({name: data[name] for name in (PARTS if part is None else [part])})
    else:
        print_parts(console(), plan, PARTS if part is None else [part])

"""`sluice show`."""

from dataclasses import replace
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import click

from wily_sluice.cli.options import Refusal, at_option, choose_uplinks, json_option, plan_option, read_at
from wily_sluice.outside.files import load
from wily_sluice.plan.model import Plan
from wily_sluice.views.plan.parts import part_data, print_parts
from wily_sluice.views.text.console import console, print_json

DRAWING = click.Path(path_type=Path, dir_okay=False)
PARTS = ["uplinks", "networks", "groups", "schedules", "tree", "limiters", "rules"]
ALSO = ["framings", "services"]  # shown when asked for


@click.command()
@click.argument("part", type=click.Choice([*PARTS, *ALSO]), required=False)
@plan_option
@click.option("--uplink", metavar="NAME", help="Only this uplink's trees.")
@click.option("--svg", "drawing", type=DRAWING, metavar="FILE", help="Draw the trees into this file.")
@click.option("--png", "picture", type=DRAWING, metavar="FILE", help="The same as a picture.")
@at_option("Say what holds then, in the site's time: 2027-03-25T14:30.")
@json_option
def show(
    part: str | None,
    plan_file: Path,
    uplink: str | None,
    drawing: Path | None,
    picture: Path | None,
    at: str | None,
    as_json: bool,
) -> None:
    """Show a plan as it is understood: every rate worked out, rules and limiters as sentences.

    Without PART, all of it.

    \b
    Examples:
      sluice show tree
      sluice show tree --uplink fibre --svg tree.svg
      sluice show framings
      sluice show services
      sluice show schedules --at 2027-03-25T14:30
      sluice show rules --plan surgery.yaml
    """
    plan = load(plan_file)
    if uplink is not None or drawing is not None or picture is not None:
        if part != "tree":
            raise click.UsageError("--uplink, --svg and --png are for `sluice show tree`")
        plan = replace(plan, uplinks=tuple(choose_uplinks(plan, uplink)))
    moment = read_at(plan, at) or datetime.now(ZoneInfo(plan.timezone))
    if at is not None and part is None:
        part = "schedules"
    for file, suffix in ((drawing, ".svg"), (picture, ".png")):
        if file is not None:
            _draw(plan, file, suffix)
    if drawing is not None or picture is not None:
        return
    if as_json:
        data = part_data(plan, moment)
        print_json({name: data[name] for name in (PARTS if part is None else [part])})
    else:
        print_parts(console(), plan, PARTS if part is None else [part], moment, at is not None)


def _draw(plan: Plan, file: Path, suffix: str) -> None:
    if file.suffix != suffix:
        raise click.BadParameter(f"the name of {file} must end in {suffix}", param_hint=f"--{suffix[1:]}")
    from wily_sluice.views.plan.tree_figure import draw_trees  # Matplotlib takes half a second to load

    part = file.with_name(f".{file.stem}.part{suffix}")
    try:
        draw_trees(plan, plan.uplinks, part)
        part.replace(file)
    except OSError as error:
        raise Refusal(f"{file} cannot be written: {error.strerror}") from None
    finally:
        part.unlink(missing_ok=True)
    click.echo(f"drawn: {file}")

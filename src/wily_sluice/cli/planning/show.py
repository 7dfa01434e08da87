"""`sluice show`."""

from dataclasses import replace
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import click
from click.shell_completion import CompletionItem

from wily_sluice.cli.options import (
    USUAL_PLAN,
    Refusal,
    at_option,
    choose_uplinks,
    json_option,
    plan_from,
    read_at,
    renamed,
    uplink_option,
)
from wily_sluice.outside.files import load
from wily_sluice.plan.file.words import suggestion
from wily_sluice.plan.model import Plan
from wily_sluice.views.plan.parts import part_data, print_parts, print_tables
from wily_sluice.views.plan.words import framing_data, framing_table, layer_table, service_data, service_table
from wily_sluice.views.text.console import console, print_json

DRAWING = click.Path(path_type=Path, dir_okay=False)
PARTS = [
    "uplinks",
    "tunnels",
    "networks",
    "hosts",
    "groups",
    "schedules",
    "trees",
    "limiters",
    "rules",
    "routes",
    "mappings",
]
ALSO = ["framings", "services"]  # shown only when asked for; they need no plan


class Part(click.ParamType[str]):
    """A part of a plan; a file's name is taken for the plan itself."""

    name = "part"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """Check that there is such a part."""
        word = str(value)
        if word not in (*PARTS, *ALSO) and not (word == "-" or "/" in word or "." in word):
            self.fail(f"there is no part “{word}”: {suggestion(word, [*PARTS, *ALSO])}", param, ctx)
        return word

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        """The parts, and files."""
        parts = [CompletionItem(part) for part in (*PARTS, *ALSO) if part.startswith(incomplete)]
        return [*parts, CompletionItem(incomplete, type="file")]


@click.command()
@click.argument("part", metavar="[PART]", type=Part(), required=False)
@plan_from(required=False)
@uplink_option
@click.option("--picture", type=DRAWING, metavar="FILE", help="Draw the trees into this file, .png or .svg.")
@renamed("--svg", "--picture")
@renamed("--png", "--picture")
@at_option("Show what applies at this time, in the site's time zone: 2027-03-25T14:30.")
@json_option
def show(
    part: str | None,
    plan_file: Path | None,
    uplink: str | None,
    picture: Path | None,
    at: str | None,
    as_json: bool,
) -> None:
    """Show a plan with all rates calculated.

    Rules and limiters are shown as sentences. PART is uplinks, tunnels, networks, hosts, groups, schedules, trees,
    limiters, rules, routes or mappings; the default is all. The parts framings and services need no plan.

    \b
    Examples:
      sluice show surgery.yaml
      sluice show trees
      sluice show trees --uplink fibre --picture trees.svg
      sluice show framings
      sluice show services
      sluice show schedules --at 2027-03-25T14:30
      sluice show rules surgery.yaml
    """
    if part is not None and part not in (*PARTS, *ALSO):
        plan_file, part = Path(part), None
    if plan_file is None and part in ALSO:
        _show_general(part, as_json)
        return
    plan = load(plan_file or USUAL_PLAN)
    if uplink is not None or picture is not None:
        if part != "trees":
            raise click.UsageError("--uplink and --picture are for `sluice show trees`")
        plan = replace(plan, uplinks=tuple(choose_uplinks(plan, uplink)))
    moment = read_at(plan, at) or datetime.now(ZoneInfo(plan.timezone))
    if at is not None and part is None:
        part = "schedules"
    if picture is not None:
        _draw(plan, picture)
        return
    if as_json:
        data = part_data(plan, moment)
        print_json({name: data[name] for name in (PARTS if part is None else [part])})
    else:
        print_parts(console(), plan, PARTS if part is None else [part], moment, at is not None)


def _show_general(part: str | None, as_json: bool) -> None:
    """Parts that are the same for every plan."""
    if as_json:
        print_json({part: framing_data() if part == "framings" else service_data(None)})
    else:
        screen = console()
        print_tables(
            screen, [framing_table(screen, ()), layer_table()] if part == "framings" else [service_table(None)]
        )


def _draw(plan: Plan, file: Path) -> None:
    if file.suffix not in (".png", ".svg"):
        raise click.BadParameter(f"the name of {file} must end in .png or .svg", param_hint="--picture")
    from wily_sluice.views.plan.tree_figure import draw_trees  # Matplotlib takes half a second to load

    part = file.with_name(f".{file.stem}.part{file.suffix}")
    try:
        draw_trees(plan, plan.uplinks, part)
        part.replace(file)
    except OSError as error:
        raise Refusal(f"cannot write {file}: {error.strerror}") from None
    finally:
        part.unlink(missing_ok=True)
    click.echo(f"wrote {file}")

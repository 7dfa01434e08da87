"""`sluice compare`."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wily_sluice.cli.options import Refusal, csv_option, json_option

if TYPE_CHECKING:
    from wily_sluice.comparing import Result


@click.command()
@click.argument("a", type=click.Path(path_type=Path, dir_okay=False))
@click.argument("b", type=click.Path(path_type=Path, dir_okay=False), required=False)
@click.option("--all", "every", is_flag=True, help="Also show equal figures.")
@click.option("--picture", type=click.Path(path_type=Path), metavar="FILE", help="Draw it, as PNG or SVG.")
@csv_option
@json_option
def compare(a: Path, b: Path | None, every: bool, picture: Path | None, as_csv: bool, as_json: bool) -> None:
    """Show the differences between two results.

    A and B are two plans, or two files with the --json output of `gauge line`, `lab run` (with --delays) or `prove`.
    With a single lab result, compare shows the line without the plan against the line with it. For plans, it shows the
    rate of each queue when all are busy.

    Measurements vary a little. A difference counts only if it is larger than that noise, with 95% confidence.

    \b
    Examples:
      sluice compare surgery.yaml surgery-new.yaml
      sluice gauge line far.example --json > before.json
      sluice compare before.json after.json --picture change.png
      sluice compare afternoon.json
    """
    from wily_sluice.comparing import differences, has_parts
    from wily_sluice.views.forecast.compare import differences_data, draw_differences, print_differences
    from wily_sluice.views.text.console import console, print_json, records_csv

    if b is None:
        data = _read(a)
        if not has_parts(data):
            raise Refusal(f"{a} has no before and after: give a second result")
        names = (f"{a}, before", f"{a}, with the plan")
        first, other = _result(a, "before"), _result(a)
    else:
        names = (str(a), str(b))
        first, other = _result(a), _result(b)
    if not first.keys() & other.keys():
        raise Refusal(f"{names[0]} and {names[1]} have nothing in common: compare two of one kind")
    result = differences(first, other)
    if as_json:
        print_json(differences_data(names, result))
    elif as_csv:
        click.echo(records_csv(differences_data(names, result)["differences"]), nl=False)
    else:
        print_differences(console(), names, result, every)
    if picture is not None:
        spread = {
            name.rpartition(" p")[0].rstrip(":, ") or name: (own.quantity.samples, own.samples)
            for own in result
            if own.quantity.unit == "ns" and own.quantity.samples and own.samples
            for name in (own.quantity.name,)
        }
        try:
            draw_differences(names, result, spread, picture)
        except (OSError, ValueError) as error:
            raise Refusal(f"cannot draw to {picture}: {error}") from None


def _read(path: Path) -> object:
    try:
        return json.loads(path.read_text())
    except OSError as error:
        raise Refusal(f"{path} cannot be read: {error.strerror}") from None
    except ValueError as error:
        raise Refusal(f"{path} is no JSON: {error}") from None


def _result(path: Path, part: str = "after") -> Result:
    from wily_sluice.comparing import NothingToCompareError, of_data, of_plan
    from wily_sluice.outside.files import load

    if path.suffix in (".yaml", ".yml"):
        return of_plan(load(path))
    try:
        return of_data(_read(path), part)
    except NothingToCompareError as error:
        raise Refusal(f"{path}: {error}") from None

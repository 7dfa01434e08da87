"""`sluice names`."""

import sqlite3
from ipaddress import ip_address
from pathlib import Path

import click

from wily_sluice.cli.options import Refusal, json_option, state_option
from wily_sluice.history.database import NAMES
from wily_sluice.history.name_store import NameStore
from wily_sluice.views.live.names import names_data, names_table
from wily_sluice.views.text.console import console, print_json


class Address(click.ParamType[str]):
    """An address, as it is kept."""

    name = "address"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """Read it."""
        try:
            return str(ip_address(str(value)))
        except ValueError:
            self.fail(f"“{value}” is no address: write one such as 10.61.0.40", param, ctx)


@click.command()
@state_option
@click.option("--host", type=Address(), metavar="ADDRESS", help="Only of this host.")
@click.option("--most", type=click.IntRange(1), default=50, show_default=True, help="Rows of the table.")
@json_option
def names(state: Path, host: str | None, most: int, as_json: bool) -> None:
    """List which names hosts spoke with, where the plan has that kept.

    Nothing of it is kept unless the plan says so, and for how long: `gate: {keep-names: 7 days}`. Then a host, a name
    and the hours in which they spoke are kept, not what or how much; and all of it goes when a plan that does not say
    so is kept.

    \b
    Examples:
      sudo sluice names
      sudo sluice names --host 10.61.0.40 --json
    """
    try:
        if not (state / NAMES).exists():
            raise Refusal(
                f"no names are kept in {state}: only a plan with `gate: {{keep-names: 7 days}}` has them kept"
            )
        store = NameStore(state)
        found = list(store.read(host))
        store.close()
    except (OSError, sqlite3.Error) as error:
        raise Refusal(f"the names in {state} cannot be read: {error}") from None
    if as_json:
        print_json(names_data(found))
    elif not found:
        click.echo("no names are kept of this host" if host else "no names are kept yet")
    else:
        console().print(names_table(found[:most]))
        if len(found) > most:
            click.echo(f"{len(found) - most} more: --most {len(found)} shows them")

"""`sluice usage` and `sluice names`: what was kept over time."""

import sqlite3
import time
from contextlib import closing
from ipaddress import ip_address
from pathlib import Path

import click

from wily_sluice.cli.options import Refusal, Time, json_option, state_option
from wily_sluice.history.counter_store import SPANS, CounterReader, Resolution
from wily_sluice.history.counts import Subject
from wily_sluice.history.database import COUNTERS, NAMES
from wily_sluice.history.name_store import NameStore
from wily_sluice.history.usage import Usage, resolution_for, usage_of
from wily_sluice.units import SECOND, Nanoseconds
from wily_sluice.views.live.names import names_data, names_table
from wily_sluice.views.live.status import span_words
from wily_sluice.views.live.usage import usage_csv, usage_data, usage_table
from wily_sluice.views.text.console import console, print_json

SUBJECTS: tuple[Subject, ...] = ("uplink", "queue", "limiter", "host", "service", "rule")


@click.command()
@click.option("--last", type=Time(), default="1 h", show_default=True, help="How far back: 10 min, 24 h, 30 days.")
@click.option("--by", "subject", type=click.Choice(SUBJECTS), default="queue", show_default=True, help="Added up by.")
@click.option("--only", default="", metavar="WORD", help="Only what has this in its name.")
@click.option("--step", type=click.Choice(list(SPANS)), default=None, help="In steps of this.  [default: what fits]")
@click.option("--most", type=click.IntRange(1), default=20, show_default=True, help="How many at most.")
@click.option("--png", "picture", type=click.Path(path_type=Path), metavar="FILE", help="Draw it into this file.")
@state_option
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print each step as CSV.")
def usage(
    last: Nanoseconds,
    subject: Subject,
    only: str,
    step: Resolution | None,
    most: int,
    picture: Path | None,
    state: Path,
    as_json: bool,
    as_csv: bool,
) -> None:
    """Look back at what the gate counted: who used the line, when, and how long it made packets wait.

    Seconds are kept for an hour, minutes for a month, hours for ten years. The course of the whole stretch is at the
    end of each row; delays are of the worst step. Reads the folder of the gate's state, so it works when no gate runs.

    \b
    Examples:
      sudo sluice usage
      sudo sluice usage --last '24 h' --by host --most 5
      sudo sluice usage --last '7 days' --by service --png week.png
      sudo sluice usage --last '30 days' --by uplink --csv > month.csv
    """
    lasted = max(1, last // SECOND)
    end = int(time.time()) + 1
    found = _read(state, subject, end - lasted, end, step or resolution_for(lasted))
    uses = [use for use in found.uses if only.lower() in f"{use.key.uplink} {use.key.name}".lower()]
    shown = list(dict.fromkeys((use.key.uplink, use.key.name) for use in uses))[:most]
    top = [use for use in uses if (use.key.uplink, use.key.name) in set(shown)]
    if picture is not None:
        # Matplotlib takes a while to come; only a picture waits for it.
        from wily_sluice.views.live.usage_figure import draw_usage

        if picture.suffix not in (".png", ".svg"):
            raise click.BadParameter(f"“{picture}” is to end in .png or .svg", param_hint="--png")
        try:
            draw_usage(f"The last {span_words(lasted)}, by {subject}", found, uses, picture)
        except OSError as error:
            raise Refusal(f"{picture} cannot be written: {error.strerror}") from None
    if as_json:
        print_json(usage_data(found, uses))
    elif as_csv:
        click.echo(usage_csv(found, uses), nl=False)
    elif not top:
        click.echo(f"nothing was counted in the last {span_words(lasted)}" + (f" of “{only}”" if only else ""))
    else:
        console().print(usage_table(found, top))
        left = len({(use.key.uplink, use.key.name) for use in uses}) - len(shown)
        if left:
            click.echo(f"{left} more, who used less: --most {left + len(shown)} shows them")


def _read(state: Path, subject: Subject, begin: int, end: int, resolution: Resolution) -> Usage:
    try:
        if not (state / COUNTERS).exists():
            raise Refusal(f"nothing was counted in {state} yet: it is counted while a gate runs")
        with closing(CounterReader(state)) as store:
            return usage_of(store, subject, begin, end, resolution)
    except (OSError, sqlite3.Error) as error:
        raise Refusal(f"what was counted in {state} cannot be read: {error}") from None


class Address(click.ParamType[str]):
    """An address, as it is kept."""

    name = "address"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """Parse an address."""
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

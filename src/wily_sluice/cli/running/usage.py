"""`sluice usage` and `sluice contacts`: stored figures over time."""

import sqlite3
import time
from collections.abc import Mapping
from contextlib import closing, suppress
from datetime import UTC, datetime
from ipaddress import ip_address
from pathlib import Path
from zoneinfo import ZoneInfo

import click

from wily_sluice.cli.options import Refusal, Time, csv_option, json_option, renamed, state_option
from wily_sluice.control.api.hosts import all_names
from wily_sluice.errors import SluiceError
from wily_sluice.history.counter_store import SPANS, CounterReader, Resolution
from wily_sluice.history.counts import Subject
from wily_sluice.history.database import CONTACTS, COUNTERS, PLANS
from wily_sluice.history.revisions import RevisionStore
from wily_sluice.history.stores import ContactStore
from wily_sluice.history.usage import Usage, named, resolution_for, usage_of
from wily_sluice.outside.machine import timezone
from wily_sluice.plan.schedules.moment import read_past_moment
from wily_sluice.units import SECOND, Nanoseconds, span_words
from wily_sluice.views.live.gate import CONTACT_COLUMNS
from wily_sluice.views.live.usage import usage_csv, usage_data, usage_table
from wily_sluice.views.text.columns import records_of, table_of
from wily_sluice.views.text.console import console, print_json, records_csv

HOUR = 3600  # seconds
SUBJECTS: tuple[Subject, ...] = ("uplink", "queue", "limiter", "host", "service", "rule")


@click.command()
@click.option("--last", type=Time(), metavar="TIME", help="How far back: 10 min, 24 h, 30 days.  [default: 1 h]")
@click.option("--from", "begins", metavar="MOMENT", help="From then: 2027-03-25T14:30, 'yesterday 19:00', 'mon 9:30'.")
@click.option("--to", "ends", metavar="MOMENT", help="Until then.  [default: now]")
@click.option("--at", "around", metavar="MOMENT", help="The ten minutes around then.")
@click.option(
    "--by", "subject", type=click.Choice(SUBJECTS), default="queue", show_default=True, help="Add up by this."
)
@click.option("--filter", "only", default="", metavar="WORD", help="Only rows whose name contains this.")
@click.option(
    "--step", type=click.Choice(list(SPANS)), default=None, help="Length of a step.  [default: one that fits]"
)
@click.option("--rows", type=click.IntRange(1), metavar="N", default=20, show_default=True, help="Rows of the table.")
@click.option(
    "--picture", type=click.Path(path_type=Path), metavar="FILE", help="Draw the figure into this file, .png or .svg."
)
@renamed("--only", "--filter")
@renamed("--png", "--picture")
@state_option
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print each step as CSV.")
def usage(
    last: Nanoseconds | None,
    begins: str | None,
    ends: str | None,
    around: str | None,
    subject: Subject,
    only: str,
    step: Resolution | None,
    rows: int,
    picture: Path | None,
    state: Path,
    as_json: bool,
    as_csv: bool,
) -> None:
    """Show who used the uplinks, when and how much.

    Each row ends with a chart of the period; delays are those of the worst step. The gate keeps seconds for an hour,
    minutes for a month and hours for ten years. The figures come from its state folder, so it need not be running.

    \b
    Examples:
      sudo sluice usage
      sudo sluice usage --last '24 h' --by host --rows 5
      sudo sluice usage --at 'yesterday 15:00' --by host
      sudo sluice usage --from 'mon 19:00' --to 'mon 22:00' --by service
      sudo sluice usage --last '7 days' --by service --picture week.png
      sudo sluice usage --last '30 days' --by uplink --csv > month.csv
    """
    zone = ZoneInfo(timezone())
    begin, end = _span(last, begins, ends, around, zone)
    lasted, past = end - begin, int(time.time()) + 1 - begin
    period = (
        f"in the last {span_words(lasted)}"
        if end > time.time()
        else f"from {_words(begin, zone)} to {_words(end, zone)}"
    )
    usage = _read(state, subject, begin, end, step or resolution_for(lasted, past))
    if subject == "host" and not (as_json or as_csv):
        usage = named(usage, _host_names(state))
    uses = [use for use in usage.uses if only.lower() in f"{use.key.uplink} {use.key.name}".lower()]
    shown = list(dict.fromkeys((use.key.uplink, use.key.name) for use in uses))[:rows]
    top = [use for use in uses if (use.key.uplink, use.key.name) in set(shown)]
    if picture is not None:
        # Matplotlib takes a while to come; only a picture waits for it.
        from wily_sluice.views.live.usage_figure import draw_usage

        if picture.suffix not in (".png", ".svg"):
            raise click.BadParameter(f"the name of {picture} must end in .png or .svg", param_hint="--picture")
        try:
            draw_usage(f"{period[0].upper()}{period[1:]}, by {subject}", usage, uses, picture)
        except OSError as error:
            raise Refusal(f"cannot write {picture}: {error.strerror}") from None
    if as_json:
        print_json(usage_data(usage, uses, zone))
    elif as_csv:
        click.echo(usage_csv(usage, uses, zone), nl=False)
    elif not top:
        click.echo(f"no traffic {period}" + (f" matches “{only}”" if only else ""))
    else:
        screen = console()
        screen.print(usage_table(screen, usage, top))
        left = len({(use.key.uplink, use.key.name) for use in uses}) - len(shown)
        if left:
            click.echo(f"{left} more used less; --rows {left + len(shown)} shows them")


AROUND = 300  # seconds before and after --at


def _span(
    last: Nanoseconds | None, begins: str | None, ends: str | None, around: str | None, zone: ZoneInfo
) -> tuple[int, int]:
    """The period, in seconds since 1970."""
    now = datetime.now(UTC)

    def moment(text: str, option: str) -> int:
        try:
            return int(read_past_moment(text, zone, now).timestamp())
        except ValueError as error:
            raise click.BadParameter(str(error), param_hint=option) from None

    if sum(moment is not None for moment in (last, begins, around)) > 1 or (around is not None and ends is not None):
        raise click.UsageError("give one of --last, --from and --at; --to goes with --last or --from")
    if around is not None:
        middle = moment(around, "--at")
        return middle - AROUND, middle + AROUND
    end = moment(ends, "--to") if ends is not None else int(now.timestamp()) + 1
    if begins is None:
        return end - (max(1, last // SECOND) if last is not None else HOUR), end
    begin = moment(begins, "--from")
    if begin >= end:
        raise click.UsageError(f"--from is not before --to: {_words(begin, zone)}, {_words(end, zone)}")
    return begin, end


def _words(at: int, zone: ZoneInfo) -> str:
    return f"{datetime.fromtimestamp(at, zone):%a %d %b %H:%M}"


def _read(state: Path, subject: Subject, begin: int, end: int, resolution: Resolution) -> Usage:
    try:
        if not (state / COUNTERS).exists():
            raise Refusal(f"nothing has been counted in {state} yet; counting starts with the gate")
        with closing(CounterReader(state)) as store:
            return usage_of(store, subject, begin, end, resolution)
    except (OSError, sqlite3.Error) as error:
        raise Refusal(f"cannot read the counters in {state}: {error}") from None


def _host_names(state: Path) -> Mapping[str, str]:
    """By the plan that was kept last, where there is one."""
    with suppress(OSError, sqlite3.Error, SluiceError):
        if (state / PLANS).exists():
            with closing(RevisionStore(state)) as store:
                kept = store.kept()
                bundle = store.bundle(kept.number) if kept is not None else None
            return all_names(bundle.load()) if bundle is not None else {}
    return {}


class Address(click.ParamType[str]):
    """An address, as it is kept."""

    name = "address"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """Parse an address."""
        try:
            return str(ip_address(str(value)))
        except ValueError:
            self.fail(f"“{value}” is not an address: write one like 10.61.0.40", param, ctx)


@click.command()
@state_option
@click.option("--host", type=Address(), metavar="ADDRESS", help="Only this host.")
@click.option("--rows", type=click.IntRange(1), metavar="N", default=50, show_default=True, help="Rows of the table.")
@csv_option
@json_option
def contacts(state: Path, host: str | None, rows: int, as_csv: bool, as_json: bool) -> None:
    """List the names that each host contacted.

    The gate records names only if the plan says how long to keep them: `gate: {keep-contacts: 7 days}`. It records the
    host, the name and the hour, but neither content nor volume. It deletes all of it when you keep a plan without
    keep-contacts.

    \b
    Examples:
      sudo sluice contacts
      sudo sluice contacts --host 10.61.0.40 --json
    """
    try:
        if not (state / CONTACTS).exists():
            raise Refusal(f"no contacts are recorded in {state}: the plan must have `gate: {{keep-contacts: 7 days}}`")
        store = ContactStore(state)
        contacts = list(store.read(host))
        store.close()
    except (OSError, sqlite3.Error) as error:
        raise Refusal(f"cannot read the contacts in {state}: {error}") from None
    if as_json:
        print_json(records_of(CONTACT_COLUMNS, contacts))
    elif as_csv:
        click.echo(records_csv(records_of(CONTACT_COLUMNS, contacts)), nl=False)
    elif not contacts:
        click.echo("no contacts of this host are recorded" if host else "no contacts are recorded yet")
    else:
        console().print(table_of(CONTACT_COLUMNS, contacts[:rows]))
        if len(contacts) > rows:
            click.echo(f"{len(contacts) - rows} more; --rows {len(contacts)} shows them")

"""The life of a plan: `sluice apply`, `keep`, `undo`, `history` and `diff`."""

import json
import sqlite3
import sys
from base64 import b64encode
from contextlib import closing
from pathlib import Path
from typing import Any

import click

from wily_sluice.cli.options import COST, Refusal, Time, csv_option, json_option, plan_from, state_option
from wily_sluice.control.api.snapshot import revision_data
from wily_sluice.control.client import Client
from wily_sluice.errors import LiveError, RpcError
from wily_sluice.history.database import EVENTS
from wily_sluice.history.revisions import RevisionStore
from wily_sluice.history.stores import EventStore
from wily_sluice.outside.files import examine
from wily_sluice.plan.compare import compare
from wily_sluice.plan.file.bundle import Bundle, bundle_from, bundle_of
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.model import Plan
from wily_sluice.rig.cost import MIX, needed
from wily_sluice.units import SECOND, Nanoseconds, span_words
from wily_sluice.views.live.cost import ENOUGH
from wily_sluice.views.live.gate import EVENT_COLUMNS
from wily_sluice.views.plan.changes import changes_data, diff_lines, history_table, print_changes, print_diff
from wily_sluice.views.text.columns import records_of, table_of
from wily_sluice.views.text.console import console, print_json, records_csv
from wily_sluice.views.text.findings import print_findings


def _call(client: Client, method: str, **params: Any) -> Any:
    """Call a method; the gate's refusal becomes this command's."""
    try:
        return client.call(method, **params)
    except RpcError as error:
        more = "".join(f"\n  {line}" for line in error.data) if isinstance(error.data, list) else ""
        raise Refusal(error.message + more) from None


@click.command()
@plan_from()
@click.option("--trial", type=Time(), default="3 min", show_default=True, help="Undo unless kept within this time.")
@click.option("--note", default="", metavar="TEXT", help="A reason, for the history.")
@click.option("--yes", is_flag=True, help="Apply without asking.")
@click.option("--dry-run", is_flag=True, help="Show what would change, and change nothing.")
@json_option
def apply(plan_file: Path, trial: Nanoseconds, note: str, yes: bool, dry_run: bool, as_json: bool) -> None:
    """Switch the running gate to a new plan, on trial.

    Checks the plan, shows the changes and the hosts they affect, and asks. Then the gate switches without losing a
    packet. `sluice keep` keeps the new plan. Otherwise the previous plan returns automatically at the end of the trial,
    even if you have locked yourself out or the gate was restarted.

    \b
    Examples:
      sudo sluice apply surgery.yaml
      sudo sluice apply --trial '10 min' --note 'more for the scans'
      sluice apply --dry-run
    """
    plan, findings = examine(plan_file)
    errors = [finding for finding in findings if finding.severity == "error"]
    if plan is None:
        raise FileError(errors)
    bundle = bundle_of(plan)
    with Client() as client:
        running = _call(client, "plan.read")
        before = bundle_from(running)
        old, _ = before.examine()
        changes = compare(old, plan) if old is not None else []
        diff = diff_lines(before, bundle, (f"revision {running['revision']}", str(plan_file)))
        if not as_json:
            print_findings(console(), findings)
            print_diff(console(), diff)
            print_changes(console(), changes)
            _warn_of_cost(plan, Path(client.call("gate.status")["state"]))
        if dry_run:
            if as_json:
                print_json({"changes": changes_data(changes), "diff": diff})
            return
        if before.digest == bundle.digest:
            raise Refusal(f"revision {running['revision']} is running already and is identical")
        if not yes:
            if not sys.stdin.isatty():
                raise Refusal("no terminal to confirm on: use --yes")
            if not click.confirm(f"apply it on trial for {span_words(trial / SECOND)}?"):
                raise Refusal("not applied; nothing was changed")
        done = _call(
            client,
            "plan.apply",
            plan=b64encode(bundle.plan).decode(),
            files={name: b64encode(content).decode() for name, content in bundle.files.items()},
            note=note,
            trial=trial / SECOND,
            base=running["digest"],
        )
    if as_json:
        print_json({"revision": done["revision"], "digest": done["digest"], "changes": changes_data(changes)})
    else:
        click.echo(f"revision {done['revision']} is on trial for {span_words(trial / SECOND)}; `sluice keep` keeps it")


def _warn_of_cost(plan: Plan, state: Path) -> None:
    """Warn if full lines need more than this machine was measured to carry."""
    try:
        carried = json.loads((state / COST).read_text())["mix"]["gate"]
    except (OSError, ValueError, KeyError):
        return
    part = needed(plan, MIX) / carried if carried else float("inf")
    if part > ENOUGH:
        line = f"full lines would take {part:.0%} of one core of this machine, as measured"
        console().print(f"{line}: see `sluice gate cost`", style="bold yellow")


@click.command()
@json_option
def keep(as_json: bool) -> None:
    """Keep the plan that is on trial.

    The gate then also starts with it.

    \b
    Example:
      sudo sluice keep
    """
    with Client() as client:
        done = _call(client, "plan.keep")
    if as_json:
        print_json(done)
    else:
        click.echo(f"revision {done['revision']} is kept")


@click.command()
@click.argument("revision", type=click.IntRange(1), required=False)
@click.option("--trial", type=Time(), default=None, help="Return on trial, and undo unless kept within this time.")
@json_option
def undo(revision: int | None, trial: Nanoseconds | None, as_json: bool) -> None:
    """End a trial, or return to an earlier plan.

    During a trial, the previous plan returns at once. Otherwise the plan of REVISION, or the one kept before, becomes a
    new revision and is kept; with --trial it is on trial first.

    \b
    Examples:
      sudo sluice undo
      sudo sluice undo 3
    """
    with Client() as client:
        done = _call(client, "plan.undo", revision=revision, trial=trial / SECOND if trial is not None else None)
    if as_json:
        print_json(done)
    elif done["how"] == "undone":
        noted = f" ({done['note']})" if done["note"] else ""
        click.echo(f"undone: revision {done['revision']}{noted} of {done['site']} is running again")
    else:
        on_trial = f" on trial for {span_words(trial / SECOND)}" if trial is not None else " and is kept"
        click.echo(f"{done['note']} of {done['site']}: it is running as revision {done['revision']}{on_trial}")


@click.command()
@state_option
@click.option(
    "--rows", type=click.IntRange(1, 10_000), metavar="N", default=50, show_default=True, help="Rows of the table."
)
@click.option("--events", is_flag=True, help="List what happened to lines, routes and mappings instead.")
@csv_option
@json_option
def history(state: Path, rows: int, events: bool, as_csv: bool, as_json: bool) -> None:
    """List the plans that the gate has run, or its events.

    Shows the time, the user and the state of each revision: ▶ is running now, • starts next time. Reads the state
    folder if no gate is running.

    \b
    Examples:
      sudo sluice history
      sudo sluice history --rows 5 --json
      sudo sluice history --events
    """
    if events:
        _print_events(state, rows, as_csv, as_json)
        return
    try:
        with Client() as client:
            history = _call(client, "history.list", rows=rows)
    except LiveError:
        store = _store(state)
        kept = store.kept()
        history = {
            "kept": kept.number if kept is not None else None,
            "revisions": [revision_data(revision) for revision in store.revisions(rows)],
        }
        store.close()
    if as_json:
        print_json(history)
    elif as_csv:
        click.echo(records_csv(history["revisions"]), nl=False)
    elif not history["revisions"]:
        click.echo("the gate has run no plan yet")
    else:
        console().print(history_table(history))


def _print_events(state: Path, rows: int, as_csv: bool, as_json: bool) -> None:
    if not (state / EVENTS).exists():
        raise Refusal(f"no events are recorded in {state}: has a gate run with this folder?")
    try:
        with closing(EventStore(state)) as store:
            events = list(store.last(rows))
    except (OSError, sqlite3.Error) as error:
        raise Refusal(f"cannot read the events in {state}: {error}") from None
    if as_json:
        print_json(records_of(EVENT_COLUMNS, events))
    elif as_csv:
        click.echo(records_csv(records_of(EVENT_COLUMNS, events)), nl=False)
    elif not events:
        click.echo("nothing has happened yet")
    else:
        console().print(table_of(EVENT_COLUMNS, events))


@click.command()
@click.argument("first")
@click.argument("second", required=False)
@state_option
@json_option
def diff(first: str, second: str | None, state: Path, as_json: bool) -> None:
    """Compare two plans or revisions.

    FIRST and SECOND are revision numbers or plan files. Without SECOND, compares the kept plan with FIRST. Prints the
    differing lines, and the difference in effect.

    \b
    Examples:
      sudo sluice diff 3 5
      sudo sluice diff surgery.yaml
      sluice diff old.yaml new.yaml
    """
    revision = _revision(first, state)
    if second is None:
        revision, other, names = _revision("kept", state), revision, ("what is kept", first)
    else:
        other, names = _revision(second, state), (_name(first), _name(second))
    lines = diff_lines(revision, other, names)
    old, new = revision.load(), other.load()
    changes = compare(old, new)
    if as_json:
        print_json({"changes": changes_data(changes), "diff": lines})
    else:
        print_diff(console(), lines)
        print_changes(console(), changes)


def _name(word: str) -> str:
    return f"revision {word}" if word.isdigit() else word


def _revision(word: str, state: Path) -> Bundle:
    """A plan by its revision number, by its file, or the kept one."""
    if not word.isdigit() and word != "kept":
        plan, findings = examine(Path(word))
        if plan is None:
            raise FileError(finding for finding in findings if finding.severity == "error")
        return bundle_of(plan)
    store = _store(state)
    kept = store.kept()
    number = int(word) if word != "kept" else kept.number if kept is not None else 0
    bundle = store.bundle(number)
    store.close()
    if bundle is None:
        raise Refusal(f"there is no revision {word} in {state}: `sluice history` lists them")
    return bundle


def _store(state: Path) -> RevisionStore:
    try:
        if not (state / "plans.sqlite").exists():
            raise Refusal(f"there is no history in {state}")
        return RevisionStore(state)
    except (OSError, sqlite3.Error) as error:
        raise Refusal(f"cannot read the history in {state}: {error}") from None

"""The life of a plan: `sluice apply`, `keep`, `undo`, `history` and `diff`."""

import json
import sqlite3
import sys
from base64 import b64encode
from pathlib import Path
from typing import Any

import click

from wily_sluice.cli.options import COST, Refusal, Time, json_option, plan_option, state_option
from wily_sluice.control.client import Client, bundle_from
from wily_sluice.control.desk.json_rpc import RpcError
from wily_sluice.control.desk.snapshot import revision_data
from wily_sluice.errors import LiveError
from wily_sluice.history.revisions import RevisionStore
from wily_sluice.outside.files import examine
from wily_sluice.plan.compare import compare
from wily_sluice.plan.file.bundle import Bundle, bundle_of
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.model import Plan
from wily_sluice.rig.cost import MIX, needed
from wily_sluice.units import SECOND, Nanoseconds
from wily_sluice.views.live.cost import ENOUGH
from wily_sluice.views.live.status import span_words
from wily_sluice.views.plan.changes import changes_data, diff_lines, history_table, print_changes, print_diff
from wily_sluice.views.text.console import console, print_json
from wily_sluice.views.text.findings import print_findings


def _call(client: Client, method: str, **params: Any) -> Any:
    """Call a method; what the gate refuses becomes a refusal of this command."""
    try:
        return client.call(method, **params)
    except RpcError as error:
        more = "".join(f"\n  {line}" for line in error.data) if isinstance(error.data, list) else ""
        raise Refusal(error.message + more) from None


@click.command()
@plan_option
@click.option("--trial", type=Time(), default="2 min", show_default=True, help="How long it has, to be kept.")
@click.option("--note", default="", metavar="TEXT", help="Why, for the history.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option("--dry-run", is_flag=True, help="Say what would change, and change nothing.")
@json_option
def apply(plan_file: Path, trial: Nanoseconds, note: str, yes: bool, dry_run: bool, as_json: bool) -> None:
    """Have the running gate go on by a plan, on trial.

    Checks the plan, says what will change and whom it concerns, and asks. Then the gate goes on by it, without losing a
    packet, for as long as the trial lasts; `sluice keep` keeps it. If nobody does, the plan before comes back by
    itself, even when you have locked yourself out, or the gate has ended meanwhile.

    \b
    Examples:
      sudo sluice apply --plan surgery.yaml
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
            raise Refusal(f"revision {running['revision']} runs already, and is the same")
        if not yes:
            if not sys.stdin.isatty():
                raise Refusal("nobody can be asked here: give --yes to apply it all the same")
            if not click.confirm(f"apply it, on trial for {span_words(trial / SECOND)}?"):
                raise Refusal("nothing was changed")
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
        click.echo(f"revision {done['revision']} is on trial for {span_words(trial / SECOND)}: `sluice keep` keeps it")


def _warn_of_cost(plan: Plan, state: Path) -> None:
    """Say so, when the plan needs more than was measured that this machine carries."""
    try:
        carried = json.loads((state / COST).read_text())["mix"]["gate"]
    except (OSError, ValueError, KeyError):
        return
    part = needed(plan, MIX) / carried if carried else float("inf")
    if part > ENOUGH:
        line = f"full lines would take {part:.0%} of one core of this machine, by what was measured on it"
        console().print(f"[bold yellow]{line}: see `sluice gate cost`[/]")


@click.command()
@json_option
def keep(as_json: bool) -> None:
    """Keep the plan that is on trial: it is what starts from now on.

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
@click.option("--trial", type=Time(), default=None, help="Go back on trial, for so long.")
@json_option
def undo(revision: int | None, trial: Nanoseconds | None, as_json: bool) -> None:
    """End a trial; or go back to REVISION, or to what was kept before.

    While a plan is on trial, the one before it comes back at once. Otherwise the plan of an earlier revision is taken
    up as a new one, and kept; with --trial it is on trial first.

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
        click.echo(f"undone: revision {done['revision']} runs again")
    else:
        on_trial = f", on trial for {span_words(trial / SECOND)}" if trial is not None else ", and is kept"
        click.echo(f"revision {done['revision']} runs{on_trial}")


@click.command()
@state_option
@click.option("--most", type=click.IntRange(1, 10_000), default=50, show_default=True, help="How many at most.")
@json_option
def history(state: Path, most: int, as_json: bool) -> None:
    """List the plans that the gate was given: when, by whom, and what became of them.

    ▶ is what runs now, • what starts next time. Asks the running gate; where there is none, the folder of its state.

    \b
    Examples:
      sudo sluice history
      sudo sluice history --most 5 --json
    """
    try:
        with Client() as client:
            found = _call(client, "history.list", most=most)
    except LiveError:
        store = _store(state)
        kept = store.kept()
        found = {
            "kept": kept.number if kept is not None else None,
            "revisions": [revision_data(one) for one in store.revisions(most)],
        }
        store.close()
    if as_json:
        print_json(found)
    elif not found["revisions"]:
        click.echo("no plan has been given to a gate here yet")
    else:
        console().print(history_table(found))


@click.command()
@click.argument("first")
@click.argument("second", required=False)
@state_option
@json_option
def diff(first: str, second: str | None, state: Path, as_json: bool) -> None:
    """Compare two revisions, or a revision with a plan file: as a diff, and in words.

    FIRST and SECOND are numbers of revisions, or plan files. Without SECOND, FIRST is compared with what is kept.

    \b
    Examples:
      sudo sluice diff 3 5
      sudo sluice diff surgery.yaml
    """
    one = _revision(first, state)
    if second is None:
        one, other, names = _revision("kept", state), one, ("what is kept", first)
    else:
        other, names = _revision(second, state), (_name(first), _name(second))
    lines = diff_lines(one, other, names)
    old, new = one.load(), other.load()
    changes = compare(old, new)
    if as_json:
        print_json({"changes": changes_data(changes), "diff": lines})
    else:
        print_diff(console(), lines)
        print_changes(console(), changes)


def _name(word: str) -> str:
    return f"revision {word}" if word.isdigit() else word


def _revision(word: str, state: Path) -> Bundle:
    """A plan by the number of its revision, by its file, or what is kept."""
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
        raise Refusal(f"there is no revision {word} in {state}: see `sluice history`")
    return bundle


def _store(state: Path) -> RevisionStore:
    try:
        if not (state / "plans.sqlite").exists():
            raise Refusal(f"there is no history in {state}")
        return RevisionStore(state)
    except (OSError, sqlite3.Error) as error:
        raise Refusal(f"the history in {state} cannot be read: {error}") from None

"""`sluice doctor`."""

import json
import os
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import click

from wily_sluice.cli.options import CLEAN, COST, ERRORS, Refusal, json_option, plan_from, state_option
from wily_sluice.doctor.check import Change, Facts
from wily_sluice.doctor.examine import Complaint, FixError, Journal, examine
from wily_sluice.doctor.look import facts
from wily_sluice.gate.kernel.machine import Machine
from wily_sluice.gate.kernel.packet_queue import PacketQueue
from wily_sluice.gate.kernel.process import absent, network_namespace
from wily_sluice.history.database import private_file, private_folder
from wily_sluice.outside.files import load
from wily_sluice.outside.machine import why_not_compiled
from wily_sluice.plan.model import Plan
from wily_sluice.rig.cost import MIX, needed
from wily_sluice.views.text.console import console, print_json
from wily_sluice.views.text.findings import changes_data, complaints_data, print_changes, print_complaints

UNUSED_QUEUE = 65_000  # far from the numbers of the gate's queues


@click.command()
@plan_from()
@click.option("--fix", is_flag=True, help="Make the safe changes (root).")
@click.option("--undo", is_flag=True, help="Undo all that --fix has changed (root).")
@state_option
@json_option
@click.pass_context
def doctor(context: click.Context, plan_file: Path, fix: bool, undo: bool, state: Path, as_json: bool) -> None:
    """Find problems of this machine that break shaping or falsify figures.

    Compares interfaces, addresses, routes and kernel settings with the plan. Changes nothing without --fix, which saves
    the old settings for --undo. Exits with status 0 if shaping can work, 2 if a problem prevents it.

    \b
    Examples:
      sluice doctor
      sudo sluice doctor --fix
      sudo sluice doctor --undo
    """
    if fix and undo:
        raise click.UsageError("use either --fix or --undo")
    journal = Journal(state, _save, str(network_namespace()))
    changes: list[Change] = []
    complaints: list[Complaint] = []
    try:
        if undo:
            changes = journal.undo()
        else:
            plan = load(plan_file)
            complaints = examine(plan, _facts(plan, state))
            if fix:
                changes = journal.fix(change for complaint in complaints for change in complaint.found.changes)
                complaints = examine(plan, _facts(plan, state))
    except FixError as error:
        raise Refusal(str(error)) from None
    if as_json:
        print_json({"complaints": complaints_data(complaints), "changed": changes_data(changes)})
    else:
        _print(complaints, changes, fix, undo)
    context.exit(ERRORS if any(complaint.ailment.severity == "error" for complaint in complaints) else CLEAN)


def _facts(plan: Plan, state: Path) -> Facts:
    queue = ""
    if os.geteuid() == 0:  # only root may use the packet queue, so only root sees whether it is there
        try:
            PacketQueue(UNUSED_QUEUE).close()
        except OSError as error:
            queue = error.strerror or str(error)
    return replace(
        facts(), busy=_busy(plan, state), slow=why_not_compiled(), queue=queue, missing=absent(),
        mark_uses=Machine().mark_uses(),
    )  # fmt: skip


def _busy(plan: Plan, state: Path) -> float | None:
    """The fraction of the gate's measured capacity that the plan's uplinks need; None without a measurement."""
    try:
        carried = float(json.loads((state / COST).read_text())["mix"]["gate"])
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return needed(plan, MIX) / carried if carried else None


def _print(complaints: Sequence[Complaint], changes: Sequence[Change], fix: bool, undo: bool) -> None:
    screen = console()
    print_changes(screen, changes, undo)
    if undo:
        if not changes:
            click.echo("nothing to undo")
        return
    if fix and complaints:
        click.echo("Left for you:")
    print_complaints(screen, complaints)
    fixable = sum(bool(complaint.found.changes) for complaint in complaints)
    if not complaints:
        click.echo("nothing is wrong with this machine")
    elif fixable and not fix:
        click.echo(f"`sudo sluice doctor --fix` fixes {fixable} of {len(complaints)}")


def _save(file: Path, text: str) -> None:
    """Replace a private file at once."""
    try:
        private_folder(file.parent)
        other = file.with_suffix(".new")
        private_file(other)
        other.write_text(text)
        other.replace(file)
    except OSError as error:
        raise FixError(f"{file} cannot be written: {error.strerror}") from error

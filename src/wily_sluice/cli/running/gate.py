"""`sluice gate`: the live shaping of this machine."""

import json
import os
import socket
import sqlite3
import sys
from contextlib import ExitStack, suppress
from datetime import UTC, datetime
from pathlib import Path

import click

from wily_sluice.cli.options import COST, Refusal, csv_option, json_option, plan_from, state_option, usual_plan
from wily_sluice.control import unit
from wily_sluice.control.api.life import moment
from wily_sluice.control.api.server import user_name
from wily_sluice.control.client import Client
from wily_sluice.control.link.supervisor import Supervisor
from wily_sluice.control.log import note
from wily_sluice.control.worker import Worker
from wily_sluice.gate.gate import Gate
from wily_sluice.gate.kernel.process import PYTHON
from wily_sluice.history.database import occupied, private_file, private_folder
from wily_sluice.history.revisions import Revision, RevisionStore
from wily_sluice.history.stores import QuotaStore
from wily_sluice.outside.files import load
from wily_sluice.outside.machine import COST_UNCOMPILED, form_words, why_not_compiled
from wily_sluice.plan.file.bundle import Bundle, bundle_of
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.model import Plan
from wily_sluice.rig.cost import measure
from wily_sluice.units import DIRECTIONS, format_rate
from wily_sluice.views.live.cost import cost_data, print_cost
from wily_sluice.views.live.gate import print_status
from wily_sluice.views.text.console import console, print_json, records_csv


@click.group()
def gate() -> None:
    """Shape the packets that cross this machine's uplinks.

    \b
    Examples:
      sudo sluice gate run surgery.yaml
      sudo sluice gate status
    """


@gate.command()
@plan_from(usual=False)
@click.option("--quiet", is_flag=True, help="Do not print a line each second.")
@state_option
@json_option
def run(plan_file: Path | None, quiet: bool, state: Path, as_json: bool) -> None:
    """Shape in the foreground until Ctrl-C or SIGTERM.

    Needs root. The kernel's packet queue hands over the packets of each uplink's interface, both forwarded ones and the
    machine's own. The gate removes its SLUICE chains whenever it exits; if it is killed, traffic bypasses it.

    A PLAN given here is kept: the gate also starts with it next time. Without one, the gate starts with the plan that
    was kept last, or with ./sluice.yaml if there is none. `sluice apply` changes the plan of a running gate.

    Prints a line each second for each uplink and direction with traffic: the rate, and the rate and drops of each busy
    queue. With --json, prints an object each second. Events go to standard error.

    \b
    Examples:
      sudo sluice gate run surgery.yaml
      sluice rig exec gateway sluice gate run surgery.yaml
    """
    if os.geteuid() != 0:
        raise Refusal("shaping packets needs root: use sudo")
    show = "" if quiet else f"wily_sluice.views.live.gate:print_{'data' if as_json else 'lines'}"
    command = [*PYTHON, "wily_sluice.control.api", str(state.absolute()), show]
    with ExitStack() as stack:
        stack.enter_context(occupied(state))
        plan, bundle, revision = _begin(plan_file, state)
        try:
            QuotaStore(state).close()
        except (OSError, sqlite3.Error) as error:
            if plan_file is not None and any(limiter.quota for limiter in plan.limiters):
                problem = f"cannot keep quotas in {state}: {error}; choose another folder with --state"
                raise Refusal(problem) from None
            note("quotas.unusable", "warning", folder=str(state), why=str(error))
        worker = Worker(state)
        stack.callback(worker.close)
        supervisor = Supervisor(command, bundle, revision, _notify, worker.examine)
        stack.callback(supervisor.close)
        running = Gate(plan, worker, supervisor, heart=supervisor.heart)
        slow = why_not_compiled()
        supervisor.oversee(running)

        def print_ready() -> None:
            for uplink in () if as_json else plan.uplinks:
                rates = " and ".join(f"{format_rate(uplink.usable(d))} {d}" for d in DIRECTIONS)
                if uplink.interface in running.missing:
                    words = f"{uplink.interface} ({uplink.name}) is not here; once it is, it is shaped to {rates}"
                else:
                    words = f"shaping {uplink.interface} ({uplink.name}) to {rates}"
                click.echo(f"{words}; Ctrl-C ends")
            if not as_json:
                click.echo(f"engine {form_words()}{f'; {COST_UNCOMPILED}' if slow else ''}")
            sys.stdout.flush()

        running.run(print_ready)
    if not as_json:
        click.echo("ended; the chain is removed and traffic bypasses it")


def _begin(plan_file: Path | None, state: Path) -> tuple[Plan, Bundle, int]:
    """The plan to start with, its bytes, and its number in the history; 0 where the history cannot be written.

    Without a plan file, it is the plan that was kept last, or the one in this folder if none was kept yet.
    """
    plan = load(plan_file) if plan_file is not None else None
    bundle = bundle_of(plan) if plan is not None else None
    try:
        store = RevisionStore(state)
        kept = store.kept()
        if plan is not None and bundle is not None:
            if kept is None or kept.digest != bundle.digest:
                kept = store.record(bundle, moment(), _who(), "given when the gate was started", "kept")
            store.close()
            return plan, bundle, kept.number
        kept_bundle = store.bundle(kept.number) if kept is not None else None
        store.close()
        if kept is None and usual_plan().exists():
            click.echo(f"no plan was kept before: the gate starts with {usual_plan()}", err=True)
            return _begin(usual_plan(), state)
    except (OSError, sqlite3.Error) as error:
        if plan is not None and bundle is not None:
            note("history.unusable", "error", folder=str(state), why=str(error))
            return plan, bundle, 0
        kept, kept_bundle = _read_kept(state, error)
        note("history.unusable", "error", folder=str(state), why=f"{error}; the plan that was kept last can be read")
    if kept_bundle is None or kept is None:
        raise Refusal(f"no plan is kept in {state} yet, and there is no {usual_plan()} here; name the plan file")
    try:
        plan = kept_bundle.load()
    except FileError as error:
        raise Refusal(f"revision {kept.number} can no longer be used: {error}") from None
    if usual_plan().exists() and usual_plan().read_bytes() != kept_bundle.plan:
        click.echo(
            f"the gate starts with revision {kept.number}, which was kept last; {usual_plan()} is another plan: "
            f"`sluice apply` switches to it",
            err=True,
        )
    return plan, kept_bundle, kept.number


def _read_kept(state: Path, problem: Exception) -> tuple[Revision | None, Bundle | None]:
    """The plan that was kept last, from a folder that cannot be written."""
    try:
        store = RevisionStore(state, read_only=True)
        kept = store.kept()
        bundle = store.bundle(kept.number) if kept is not None else None
        store.close()
    except (OSError, sqlite3.Error):
        raise Refusal(f"cannot read the history in {state}: {problem}; give a plan") from None
    return kept, bundle


def _who() -> str:
    return os.environ.get("SUDO_USER") or user_name(os.getuid())


def _notify(state: str) -> None:
    """Tell the service manager, where there is one (sd_notify(3))."""
    address = os.environ.get("NOTIFY_SOCKET")
    if address:
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as end, suppress(OSError):
            end.setblocking(False)
            end.sendto(state.encode(), "\0" + address[1:] if address.startswith("@") else address)


@gate.command()
@json_option
def status(as_json: bool) -> None:
    """Show the state of the gate.

    Its plan, trial, uplinks and uptime, for the gate of this network namespace. Exits with status 3 if none is running.

    \b
    Examples:
      sudo sluice gate status
      sluice gate status --json
    """
    with Client(watching=True) as client:
        status = client.call("gate.status")
    if as_json:
        print_json(status)
    else:
        print_status(console(), status, datetime.now(UTC))


@gate.command()
def stop() -> None:
    """Stop the gate; traffic then bypasses the gate.

    \b
    Example:
      sudo sluice gate stop
    """
    with Client() as client:
        client.call("gate.stop")
    click.echo("the gate is stopping; traffic bypasses it")


@gate.command()
@plan_from(usual=False)
@click.option("--print", "only_print", is_flag=True, help="Print the service unit, and change nothing.")
@state_option
def install(plan_file: Path | None, only_print: bool, state: Path) -> None:
    """Install the gate as a systemd service.

    It starts now and at every boot, with the plan that was kept last. A PLAN given here is kept first. Later, `sluice
    apply` changes the plan.

    \b
    Examples:
      sudo sluice gate install surgery.yaml
      sluice gate install --print
    """
    if only_print:
        click.echo(unit.unit_text(state), nl=False)
        return
    if os.geteuid() != 0:
        raise Refusal("installing a service needs root: use sudo")
    unit.refuse_private_program()
    with occupied(state):
        plan, _, revision = _begin(plan_file, state)
    if not revision:
        raise Refusal(f"cannot write the history in {state}, so the service would have nothing to start with")
    path = unit.install(state)
    for name in plan.gate.names.leases:
        closed = unit.closed_to_service(Path(name))
        if closed is not None:
            words = f"{closed} is closed to the service, so names of hosts from {name} stay unknown"
            click.echo(f"{words}: use `{unit.opened_by(closed)}`", err=True)
    click.echo(f"installed {path}: revision {revision} of {plan.site} runs now and after every boot")


@gate.command()
def remove() -> None:
    """Remove the systemd service; the history stays.

    \b
    Example:
      sudo sluice gate remove
    """
    if os.geteuid() != 0:
        raise Refusal("removing a service needs root: use sudo")
    click.echo("the service is removed" if unit.remove() else "there was no service")


@gate.command()
@plan_from()
@state_option
@csv_option
@json_option
def cost(plan_file: Path, state: Path, as_csv: bool, as_json: bool) -> None:
    """Measure the cost of shaping by a plan on this machine.

    Sends as many packets as possible through temporary network namespaces: without a gate, through a loop that accepts
    every packet, and through the gate with this plan and its rates lifted. Reports the capacity of one core, and how
    much of a core the full uplinks will use. Takes half a minute and needs root. Other load on the machine changes the
    figures.

    `sluice apply` warns if a plan needs more than this.

    \b
    Example:
      sudo sluice gate cost surgery.yaml
    """
    if os.geteuid() != 0:
        raise Refusal("network namespaces need root: use sudo")
    plan = load(plan_file)
    cost = measure(plan, plan_file, lambda line: click.echo(line, err=True))
    data = cost_data(plan, cost) | {"engine": form_words()}
    with suppress(OSError):
        private_folder(state)
        private_file(state / COST)
        (state / COST).write_text(json.dumps(data))
    if as_json:
        print_json(data)
    elif as_csv:
        mixes = {name: row for name, row in data.items() if isinstance(row, dict)}
        click.echo(records_csv({"packets": name, **row} for name, row in mixes.items()), nl=False)
    else:
        print_cost(console(), plan, cost, why_not_compiled())


@gate.command()
@json_option
def methods(as_json: bool) -> None:
    """List the methods of the gate's JSON-RPC sockets.

    \b
    Example:
      sluice gate methods --json
    """
    with Client(watching=True) as client:
        methods = client.call("gate.methods")
    if as_json:
        print_json(methods)
        return
    for name, method in methods.items():
        takes = ", ".join(method["params"]) or "nothing"
        click.echo(f"{name:<16} {method['about']}; takes {takes}{'' if method['watchers'] else '; not for watchers'}")

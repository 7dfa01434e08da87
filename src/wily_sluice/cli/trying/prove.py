"""`sluice prove`."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wily_sluice.cli.options import WARNINGS, Refusal, csv_option, json_option, plan_from, renamed
from wily_sluice.cli.trying.gauge_options import http_port_option, key_option, read_key

if TYPE_CHECKING:
    from collections.abc import Callable

    from wily_sluice.forecast.prove.bench import Bench
    from wily_sluice.forecast.prove.proof import Promise, Proof

FAILURE = ("failure", "the gate is killed")  # kind and name of what only a rig tries


@click.command()
@plan_from()
@click.option("--lab", "in_lab", is_flag=True, help="Try them in simulated time. That is the default.")
@click.option("--rig", "on_rig", is_flag=True, help="Try them on real packets, in network namespaces. Needs root.")
@click.option(
    "--live",
    "far",
    metavar="HOST",
    help="Try them on the gate that runs here; HOST runs `sluice gauge serve --proofs RATE`. Needs root.",
)
@key_option
@http_port_option
@click.option("--yes", is_flag=True, help="With --live: do not ask before the line is filled.")
@renamed("--only", "--filter")
@click.option("--filter", "only", metavar="WORD", help="Only promises whose kind or name contains this.")
@click.option("--strict", is_flag=True, help="Also exit with status 1 if a test proves nothing or cannot be tried.")
@click.option("--junit", type=click.Path(path_type=Path), metavar="FILE", help="Write the results as JUnit XML.")
@csv_option
@json_option
@click.pass_context
def prove(
    context: click.Context,
    /,
    plan_file: Path,
    in_lab: bool,
    on_rig: bool,
    far: str | None,
    key_file: Path | None,
    http_port: int,
    yes: bool,
    only: str | None,
    strict: bool,
    junit: Path | None,
    as_csv: bool,
    as_json: bool,
) -> None:
    """Test every promise of a plan, with a figure for each.

    Guarantees are tested while all other queues flood, caps and limiters on an idle line, delays within their
    guarantee, rules with a conversation that they match. By default the tests run in the lab: the gate's own engine in
    simulated time, without real packets. With --rig they run on a real gate between network namespaces of this machine
    and take about two minutes. At the end the gate is killed, and traffic must continue.

    With --live they test the gate that runs here, against a far end beyond the line, from a temporary host with unused
    addresses. The plan must be the one that is running. Each test fills the line for some seconds, alongside all other
    traffic. The output lists the promises that a single host cannot test under the running plan.

    Each test also runs in the lab on a plan without the promise. A test that still passes there proves nothing, and the
    output says so. Exits with status 1 if a promise is broken.

    \b
    Examples:
      sluice prove
      sluice prove surgery.yaml --filter guarantee
      sudo sluice prove --rig
      sudo sluice prove --live far.example
      sluice prove --strict --junit results.xml
    """
    from wily_sluice.forecast.prove.bench import Bench
    from wily_sluice.forecast.prove.promises import promises
    from wily_sluice.outside.files import load
    from wily_sluice.views.forecast.prove import junit_xml, print_proofs, proofs_data
    from wily_sluice.views.text.console import console, print_json, records_csv

    if in_lab + on_rig + (far is not None) > 1:
        raise Refusal("choose one of --lab, --rig and --live")
    if far is not None and os.geteuid() != 0:
        raise Refusal("--live needs root, to add a temporary host: use sudo")
    if on_rig and os.geteuid() != 0:
        raise Refusal("the rig needs root, for network namespaces and the packet queue: use sudo, or leave out --rig")
    plan = load(plan_file)
    bench = Bench(plan)
    wanted = [
        promise
        for promise in promises(bench)
        if only is None or only in promise.proof.kind or only in promise.proof.name
    ]
    if not wanted and not (on_rig and only is not None and any(only in word for word in FAILURE)):
        if only is not None:
            raise click.BadParameter(f"no promise has “{only}” in its kind or name", param_hint="--filter")
        raise Refusal("the plan makes no promises")
    if far is not None:
        proofs = _live(bench, wanted, plan_file, far, key_file, http_port, yes)
    else:
        failing = only is None or any(only in word for word in FAILURE)
        proofs = _on_rig(bench, wanted, plan_file, failing) if on_rig else _in_lab(bench, wanted)
    if junit is not None:
        try:
            junit.write_bytes(junit_xml(plan, proofs))
        except OSError as error:
            raise Refusal(f"cannot write {junit}: {error.strerror}") from None
    if as_json:
        print_json(proofs_data(plan, proofs, "live" if far is not None else "rig" if on_rig else "lab"))
    elif as_csv:
        click.echo(records_csv(proofs_data(plan, proofs)["promises"]), nl=False)
    else:
        print_proofs(console(), plan, proofs)
    verdicts = {proof.verdict for proof in proofs}
    context.exit(WARNINGS if "broken" in verdicts or (strict and verdicts != {"kept"}) else 0)


def _in_lab(bench: Bench, promises: list[Promise]) -> list[Proof]:
    from wily_sluice.forecast.prove.proof import try_in

    proofs = []
    with _progress(len(promises)) as tell:
        for promise in promises:
            tell(f"{promise.proof.kind} {promise.proof.name}")
            proofs.append(try_in(bench, promise))
    return proofs


def _on_rig(bench: Bench, promises: list[Promise], plan_file: Path, failing: bool) -> list[Proof]:
    from wily_sluice.rig.promises.prove import prove_on_rig

    with _progress(None) as tell:
        return prove_on_rig(bench, promises, plan_file, tell, failing=failing)[1]


def _live(
    bench: Bench, promises: list[Promise], plan_file: Path, far: str, key_file: Path | None, http_port: int, yes: bool
) -> list[Proof]:
    import socket

    from wily_sluice.control.client import Client
    from wily_sluice.plan.file.bundle import bundle_of
    from wily_sluice.proving.live import prove_live
    from wily_sluice.proving.site import live_world

    key = read_key(key_file)
    with Client() as client:
        status = client.call("gate.status")
    if status["digest"] != bundle_of(bench.plan).digest:
        raise Refusal(f"the gate runs another plan than {plan_file}: `sluice apply {plan_file}` first")
    try:
        host = str(socket.getaddrinfo(far, http_port, type=socket.SOCK_STREAM)[0][4][0])
    except OSError as error:
        raise Refusal(f"{far} is not known: {error.strerror}") from None
    if not yes:
        seconds = 4 * len(promises)
        click.confirm(f"this fills the line for up to {seconds} s; go on?", abort=True, err=True)
    with _progress(len(promises)) as tell, live_world(bench, host, http_port, key, tell) as world:
        return prove_live(world, promises, tell)


@contextmanager
def _progress(total: int | None) -> Iterator[Callable[[str], None]]:
    """On a terminal, the present task and its progress."""
    from rich.progress import BarColumn, Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

    from wily_sluice.views.text.console import console

    screen = console(stderr=True)
    bar = BarColumn(bar_width=20) if total is not None else SpinnerColumn()
    columns = (TextColumn("proving"), bar, TimeElapsedColumn(), TextColumn("{task.description}"))
    with Progress(*columns, console=screen, transient=True, disable=not screen.is_terminal) as progress:
        task = progress.add_task("", total=total)

        def tell(text: str) -> None:
            progress.update(task, description=text, advance=1 if task_begun else 0)
            task_begun.append(None)

        task_begun: list[None] = []
        yield tell

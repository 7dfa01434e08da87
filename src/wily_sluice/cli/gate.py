"""`sluice gate`: the live shaping of this machine."""

import json
import pickle
import signal
import socket
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from multiprocessing import get_context
from pathlib import Path

import click

from wily_sluice.cli.keeper import quota_keeper
from wily_sluice.cli.options import json_option, plan_option
from wily_sluice.gate.gate import Gate
from wily_sluice.plan.model import Plan
from wily_sluice.plan.read import load
from wily_sluice.units import DIRECTIONS, format_rate
from wily_sluice.views.console import console, print_line
from wily_sluice.views.live import Second, Seconds, second_data, second_lines

LARGEST_MESSAGE = 1 << 18  # bytes: what a second of some thousand queues comes to


@click.group()
def gate() -> None:
    """Shape the real packets that this machine forwards.

    \b
    Example:
      sudo sluice gate run --plan surgery.yaml
    """


@gate.command()
@plan_option
@click.option("--quiet", is_flag=True, help="Do not print what happens each second.")
@click.option(
    "--state",
    type=click.Path(path_type=Path, file_okay=False),
    envvar="SLUICE_STATE",
    default=Path("/var/lib/wily-sluice"),
    show_default="$SLUICE_STATE, then /var/lib/wily-sluice",
    metavar="FOLDER",
    help="Where counters of quotas are kept.",
)
@json_option
def run(plan_file: Path, quiet: bool, state: Path, as_json: bool) -> None:
    """Shape as the plan says, in the foreground, until Ctrl-C or a signal to end.

    Needs root. The forwarded packets of each uplink's interface are handed over by the kernel's packet queue; the
    chain SLUICE that does so is removed at the end. Should the gate be killed, packets flow unshaped.

    Prints a line a second for each uplink and direction: the rate, and the rate and drops of each busy queue. With
    --json, one object a second.

    \b
    Examples:
      sudo sluice gate run --plan surgery.yaml
      sluice rig exec gateway sluice gate run --plan surgery.yaml
    """
    plan = load(plan_file)
    with ExitStack() as stack:
        keeper = stack.enter_context(quota_keeper(state)) if any(lim.quota for lim in plan.limiters) else None
        _run(Gate(plan, keeper), plan, quiet, as_json)
    if not as_json:
        click.echo("ended: the chain is removed, packets flow unshaped")


def _run(running: Gate, plan: Plan, quiet: bool, as_json: bool) -> None:
    seconds = Seconds(running.engine)

    def print_ready() -> None:
        for uplink in () if as_json else plan.uplinks:
            rates = " and ".join(f"{format_rate(uplink.usable(d))} {d}" for d in DIRECTIONS)
            click.echo(f"shaping {uplink.interface} ({uplink.name}) to {rates}; Ctrl-C ends it")

    if quiet:
        running.run(print_ready)
    else:
        with _printer(as_json) as paper:

            def tell() -> None:
                with suppress(OSError):  # whoever prints is behind, or gone: this second is left out
                    paper.send(pickle.dumps(seconds.since_last()))

            running.run(print_ready, tell)


@contextmanager
def _printer(as_json: bool) -> Iterator[socket.socket]:
    """A process that prints the seconds that it is sent, so that a slow terminal never holds a packet up."""
    here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    here.setblocking(False)
    process = get_context("fork").Process(target=_print_seconds, args=(there, here, as_json), daemon=True)
    process.start()
    there.close()
    try:
        yield here
    finally:
        here.close()
        process.join(timeout=1)


def _print_seconds(source: socket.socket, other_end: socket.socket, as_json: bool) -> None:
    other_end.close()
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)  # it ends when the gate does
    screen = console()
    with suppress(BrokenPipeError):
        while message := source.recv(LARGEST_MESSAGE):
            latest: list[Second] = pickle.loads(message)
            if as_json:
                click.echo(json.dumps(second_data(latest)))
            else:
                for line in second_lines(latest):
                    print_line(screen, line)

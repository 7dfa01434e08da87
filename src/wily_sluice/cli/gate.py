"""`sluice gate`: the live shaping of this machine."""

import json
from pathlib import Path

import click

from wily_sluice.cli.options import json_option, plan_option
from wily_sluice.gate.gate import Gate
from wily_sluice.plan.read import load
from wily_sluice.units import DIRECTIONS, format_rate
from wily_sluice.views.console import console
from wily_sluice.views.live import Seconds, second_data, second_lines


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
@json_option
def run(plan_file: Path, quiet: bool, as_json: bool) -> None:
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
    screen = console()
    running = Gate(plan)
    seconds = Seconds(running.engine)

    def print_second() -> None:
        latest = seconds.since_last()
        if as_json:
            click.echo(json.dumps(second_data(latest)))
        else:
            for line in second_lines(latest):
                screen.print(line)

    def print_ready() -> None:
        for uplink in () if as_json else plan.uplinks:
            rates = " and ".join(f"{format_rate(uplink.usable(d))} {d}" for d in DIRECTIONS)
            click.echo(f"shaping {uplink.interface} ({uplink.name}) to {rates}; Ctrl-C ends it")

    running.run(print_ready, None if quiet else print_second)
    if not as_json:
        click.echo("ended: the chain is removed, packets flow unshaped")

"""`sluice rig`: a whole site on one machine."""

import signal
import subprocess
from pathlib import Path

import click

from wily_sluice.cli.options import Time, json_option, plan_from
from wily_sluice.outside.files import load
from wily_sluice.rig.layout import Layout, LineFigures
from wily_sluice.rig.rig import Rig
from wily_sluice.units import Nanoseconds
from wily_sluice.views.text.console import print_json

name_option = click.option(
    "--name", default="rig", show_default=True, metavar="NAME", help="Name of the rig; several can be up."
)


@click.group()
def rig() -> None:
    """Build your site from namespaces, to try the gate on real packets.

    A rig has hosts for each network, the gateway with NAT, a simulated line for each uplink, and a far end. It touches
    nothing outside. Needs root. For a simulation without packets, see `sluice lab`.

    \b
    Example, in the order of use:
      sudo sluice rig up surgery.yaml
      sudo sluice rig exec gateway sluice gate run --plan surgery.yaml
      sudo sluice rig exec surgery bash
      sudo sluice rig cut fibre
      sudo sluice rig down
    """


@rig.command()
@plan_from()
@name_option
@click.option("--delay", type=Time(), default="10 ms", show_default=True, help="One-way delay of the line.")
@click.option("--buffer", type=Time(), default="300 ms", show_default=True, help="Depth of its buffers.")
@click.option(
    "--jitter", type=Time(), default="0 ms", show_default=True, help="Mean of a delay that varies, on top of --delay."
)
@click.option("--hosts", type=click.IntRange(0, 200), default=8, show_default=True, help="Unnamed hosts per network.")
def up(plan_file: Path, name: str, delay: Nanoseconds, jitter: Nanoseconds, buffer: Nanoseconds, hosts: int) -> None:
    """Build the rig.

    Its lines have the measured rates of the plan's uplinks.

    \b
    Examples:
      sudo sluice rig up --delay '15 ms' --buffer '500 ms'
      sudo sluice rig up --delay '20 ms' --jitter '4 ms'
    """
    plan = load(plan_file)
    lines = {u.name: LineFigures(u.down, u.up, delay, buffer, u.framing, jitter=jitter) for u in plan.uplinks}
    layout = Layout(plan, name, hosts)
    Rig(name).up(layout, lines)
    click.echo(f"the rig is up: {', '.join(layout.nodes)}")
    answering = " and ".join(layout.far_addresses)
    click.echo(f"the far side answers at {answering}; `sluice rig exec NODE COMMAND` runs on a node")


@rig.command()
@name_option
def down(name: str) -> None:
    """Take the rig down, and end its processes.

    \b
    Example:
      sudo sluice rig down
    """
    count = Rig(name).down()
    click.echo("the rig is down; nothing is left" if count else "there was no rig")


@rig.command()
@click.argument("line", metavar="UPLINK")
@click.option("--silent", is_flag=True, help="Keep the link up; packets get lost behind it.")
@name_option
def cut(line: str, silent: bool, name: str) -> None:
    """Cut the line of an uplink, and watch the gate react.

    \b
    Examples:
      sudo sluice rig cut fibre
      sudo sluice rig cut fibre --silent
    """
    Rig(name).cut(line, silent)
    click.echo(f"{line} is cut; `sluice rig repair {line}` ends that")


@rig.command()
@click.argument("line", metavar="UPLINK")
@name_option
def repair(line: str, name: str) -> None:
    """Make the line of an uplink work again.

    \b
    Example:
      sudo sluice rig repair fibre
    """
    Rig(name).repair(line)
    click.echo(f"{line} works again")


@rig.command()
@name_option
@json_option
def status(name: str, as_json: bool) -> None:
    """List the rig's nodes and how many processes run on each.

    \b
    Example:
      sudo sluice rig status --json
    """
    standing = Rig(name)
    nodes = {node: len(standing.processes(node)) for node in standing.nodes()}
    if as_json:
        print_json({"rig": name, "nodes": nodes})
    elif not nodes:
        click.echo("no rig is up")
    else:
        for node, count in nodes.items():
            click.echo(f"{node}: {count} process{'es' * (count != 1)}")


@rig.command("exec", context_settings={"ignore_unknown_options": True, "allow_interspersed_args": False})
@name_option
@click.argument("node")
@click.argument("command", nargs=-1, required=True, type=click.UNPROCESSED)
@click.pass_context
def execute(context: click.Context, name: str, node: str, command: tuple[str, ...]) -> None:
    """Run a command on a node.

    NODE is the name of a network, gateway, line-UPLINK or far. Exits with the command's status.

    \b
    Examples:
      sudo sluice rig exec surgery ip address
      sudo sluice rig exec gateway sluice gate run --plan surgery.yaml
    """
    process = subprocess.Popen(Rig(name).command(node, command))
    # Ctrl-C is for the command; this program ends when that does.
    old = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        context.exit(process.wait())
    finally:
        signal.signal(signal.SIGINT, old)

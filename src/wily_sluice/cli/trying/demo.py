"""`sluice demo`: everything, on the demo site."""

import shutil
from pathlib import Path

import click
from rich.console import Console
from rich.rule import Rule

from wily_sluice import examples
from wily_sluice.cli.options import Refusal
from wily_sluice.cli.trying.lab import compare_with_progress
from wily_sluice.engine.packet import LARGEST_PACKET
from wily_sluice.forecast.lab.kinds.talk import CALL_PACKET, CALL_PERIOD
from wily_sluice.forecast.lab.kinds.tcp import HEADERS, SEGMENT
from wily_sluice.forecast.split import split
from wily_sluice.outside.files import examine, load, load_traffic
from wily_sluice.plan.rates import resolve
from wily_sluice.rig.trial import Host, live_trial
from wily_sluice.units import SECOND
from wily_sluice.views.forecast.lab import print_lab
from wily_sluice.views.forecast.split import CAPTION, split_tables
from wily_sluice.views.live.line import print_trial
from wily_sluice.views.plan.parts import print_parts
from wily_sluice.views.text.console import console
from wily_sluice.views.text.findings import count_findings, print_findings

FOLDER = click.Path(path_type=Path, file_okay=False)


@click.command()
@click.option("--live", is_flag=True, help="Shape real packets between namespaces. Needs root.")
@click.option("--save", type=FOLDER, metavar="FOLDER", help="Only write the demo's files into this folder.")
def demo(live: bool, save: Path | None) -> None:
    """See a plan checked, split and simulated on the demo site.

    The site is Saltmarsh Veterinary, a surgery with a flat above it. The demo checks its plan, shows the trees and the
    split, and simulates a busy half minute before and after. With --live, it builds the site from network namespaces,
    and the gate shapes real TCP.

    \b
    Examples:
      sluice demo
      sudo sluice demo --live
      sluice demo --save my-site
    """
    if save is not None:
        _save(save)
        return
    screen = console()
    plan_file = examples.folder() / examples.PLAN
    if live:
        _live(screen, plan_file)
        return
    screen.print(Rule("1. Is the plan in order?  sluice check", align="left", style="dim"))
    _, findings = examine(plan_file)
    print_findings(screen, findings)
    click.echo(f"{examples.PLAN}: {count_findings(findings)}\n")
    plan = load(plan_file)
    screen.print(Rule("2. What does it say?  sluice show", align="left", style="dim"))
    print_parts(screen, plan, ["trees", "limiters", "rules"])
    screen.print()
    screen.print(Rule("3. Who gets what when the line is full?  sluice split", align="left", style="dim"))
    for uplink in plan.uplinks:
        for tree, ways in plan.trees_of(uplink):
            shares = {d: split(resolve(plan, uplink, d), {}) for d in ways}
            for table in split_tables(screen, uplink, tree, shares):
                screen.print(table)
                screen.print()
    screen.print(CAPTION, style="dim")
    screen.print()
    screen.print(Rule("4. A busy half minute, without the plan and with it  sluice lab run", align="left", style="dim"))
    print_lab(screen, compare_with_progress(plan, load_traffic(examples.folder() / examples.TRAFFIC, plan)))
    click.echo("\nNext: sluice demo --save my-site   copies these files, to make them your own")
    click.echo("      sudo sluice demo --live      the same on real packets, between namespaces of this machine")


def _live(screen: Console, plan_file: Path) -> None:
    plan = load(plan_file)
    screen.print(Rule("Saltmarsh Veterinary on real packets", align="left", style="dim"))
    caller, worker, *phones = (Host(*who) for who in (examples.CALLER, examples.WORKER, *examples.PHONES))
    trial = live_trial(plan, plan_file, caller, worker, tuple(phones), click.echo)
    phone = plan.limiters[0].down or 0
    uplink = plan.uplinks[0]
    # What goes up, beside the uploads: the call, and an acknowledgement for every two frames that a phone gets.
    demands = {leaf.path: 0 for leaf in plan.tree(uplink, "up").leaves if leaf.path != "work/desk"}
    cost = uplink.framing.cost
    demands["calls"] = cost(CALL_PACKET) * 8 * SECOND // CALL_PERIOD
    demands["visitors"] = len(phones) * phone * cost(HEADERS) // (2 * cost(LARGEST_PACKET))
    desk = split(resolve(plan, uplink, "up"), demands)["work/desk"].rate
    click.echo()
    print_trial(screen, trial, *(round(uplink.goodput(rate)) for rate in (desk, phone)))
    full = cost(LARGEST_PACKET)
    click.echo(f"\nGoodput is what applications get: a frame of {full} bytes carries {SEGMENT} of theirs.")
    click.echo("\nNext: sluice rig --help       the same site, to try things by hand")
    click.echo("      sluice gate run --help  the gate alone, on your gateway")


def _save(folder: Path) -> None:
    names = (examples.PLAN, examples.TRAFFIC, examples.EVENING, examples.PLACES, examples.CAPTURE)
    for name in names:
        if (folder / name).exists():
            raise Refusal(f"{folder / name} exists and was not overwritten; choose another folder")
    folder.mkdir(parents=True, exist_ok=True)
    for name in names:
        shutil.copyfile(examples.folder() / name, folder / name)
    click.echo(f"wrote to {folder}: {', '.join(names)}")
    click.echo(f"Next: cd {folder} && sluice check {examples.PLAN}")

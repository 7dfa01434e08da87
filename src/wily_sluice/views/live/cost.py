"""What shaping costs on this machine, as a table and as data."""

from typing import Any

from rich.console import Console
from rich.table import Table

from wily_sluice.outside.machine import COST_UNCOMPILED
from wily_sluice.plan.model import Plan
from wily_sluice.rig.cost import Carried, Cost, needed
from wily_sluice.units import format_rate

DISTURBED = 0.01
ENOUGH = 0.7  # of what the gate carries: above this a busy machine may not keep up


def share(plan: Plan, carried: Carried) -> float:
    """What part of one core the plan's lines take when they are full."""
    return needed(plan, carried.sizes) / carried.gate if carried.gate else float("inf")


def cost_data(plan: Plan, cost: Cost) -> dict[str, Any]:
    """For JSON: packets a second, and bit/s of packets."""
    return {
        name: {
            "mean_size": round(carried.mean, 1),
            "no_gate": round(carried.free),
            "let_go_at_once": round(carried.bare),
            "gate": round(carried.gate),
            "rate": round(carried.rate),
            "needed": round(needed(plan, carried.sizes)),
            "share_of_a_core": round(share(plan, carried), 4),
        }
        for name, carried in (("full", cost.full), ("mix", cost.mix))
    } | {"stolen": round(cost.stolen, 4)}


def print_cost(console: Console, plan: Plan, cost: Cost, slow: str) -> None:
    """One row per mix of packet sizes, and the consequence for the plan's uplinks. `slow`: why it is not compiled."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("packets", "mean size", "no gate", "one core accepts", "one core shapes", "", "full lines need"):
        table.add_column(name, justify="left" if name == "packets" else "right")
    for name, carried in (("full", cost.full), ("mixed", cost.mix)):
        table.add_row(
            name,
            f"{carried.mean:.0f} B",
            f"{carried.free:,.0f}/s",
            f"{carried.bare:,.0f}/s",
            f"{carried.gate:,.0f}/s",
            format_rate(float(f"{carried.rate:.3g}")),
            f"{needed(plan, carried.sizes):,.0f}/s",
        )
    console.print(table)
    console.print(
        "no gate: all cores together; accepts: the same path with a loop that only accepts packets", style="dim"
    )
    if not slow:
        console.print("engine: compiled", style="dim")
    else:
        console.print(f"The engine is not compiled: {slow}; {COST_UNCOMPILED}.", style="yellow")
    if cost.stolen > DISTURBED:
        taken = f"{cost.stolen:.0%} of the processor time was taken by the host"
        console.print(f"{taken}: measure again when the host is quiet.", style="yellow")
    part = share(plan, cost.mix)
    console.print(f"With all lines full of mixed packets in both directions, the gate uses {part:.0%} of one core.")
    if part > 1:
        console.print("This machine cannot carry the plan: the excess bypasses the gate.", style="bold red")
    elif part > ENOUGH:
        console.print("That leaves little to spare: on a busy machine, packets may bypass the gate.", style="yellow")

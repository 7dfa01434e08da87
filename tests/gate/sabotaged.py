"""A gate that keeps all promises of a plan but some: `python -m tests.gate.sabotaged NAME PLAN`."""

import sys
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from tests.forecast.sabotage import SABOTAGES, Key, spoilt
from wily_sluice.gate.kernel import diversion
from wily_sluice.rig.promises import gate_program

Chains = Callable[[tuple[str, str]], tuple[str, str]]


def _without_ipv6(contents: tuple[str, str]) -> tuple[str, str]:
    return contents[0], "\n".join(line for line in contents[1].splitlines() if line.startswith(":"))


def _without_tcp(contents: tuple[str, str]) -> tuple[str, str]:
    first = f"-A {diversion.CHAIN} "
    past = f"{first}-p tcp -j RETURN\n"
    v4, v6 = (own.replace(first, past + first, 1) for own in contents)
    return v4, v6


def _closed(contents: tuple[str, str]) -> tuple[str, str]:
    v4, v6 = (own.replace(" --queue-bypass", "") for own in contents)
    return v4, v6


# Chains that do not lead all packets there, or do not let them go, and the promises that this breaks.
CHAINS: dict[str, tuple[Chains, set[Key]]] = {
    "no IPv6": (_without_ipv6, {("traffic", name, "line") for name in ("house, IPv6", "gateway, IPv6")}),
    "no TCP": (
        _without_tcp,
        {
            *(("traffic", f"{name}, IPv{version}", "line") for name in ("house", "gateway") for version in (4, 6)),
            ("traffic", "guests, IPv4", "line"),
            *(("rule", name, "line") for name in ("Calls", "Work", "Long")),
        },
    ),
    "not open": (_closed, {("failure", "the gate is killed", "line up")}),
}
BROKEN = {name: broken for name, (_, broken) in {**SABOTAGES, **CHAINS}.items()}


def main(name: str, plan_file: str) -> None:
    part_of = gate_program.part_of
    if name == "no routes":
        gate_program.part_of = lambda plan, part: replace(part_of(plan, part), routes=())
    elif name in SABOTAGES:
        gate_program.part_of = lambda plan, part: spoilt(part_of(plan, part), name)
    else:
        rules: Any = diversion.rules
        diversion.rules = lambda *about: CHAINS[name][0](rules(*about))
    gate_program.main(plan_file)


if __name__ == "__main__":
    main(*sys.argv[1:])

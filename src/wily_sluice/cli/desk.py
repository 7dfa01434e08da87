"""Runs the process beside a gate: `python -m wily_sluice.cli.desk STATE SHOW DESCRIPTOR`, as the gate does."""

import json
import sys
from contextlib import suppress
from pathlib import Path

import click

from wily_sluice.control.desk.desk import run_desk
from wily_sluice.control.desk.snapshot import Snapshot
from wily_sluice.plan.model import Plan
from wily_sluice.views.live.seconds import second_data, second_lines
from wily_sluice.views.text.console import console, print_line


def _print_data(plan: Plan, second: Snapshot) -> None:
    with suppress(BrokenPipeError):
        click.echo(json.dumps(second_data(plan, second)))


def _print_lines(plan: Plan, second: Snapshot) -> None:
    with suppress(BrokenPipeError):
        for line in second_lines(plan, second):
            print_line(console(), line)


SHOW = {"lines": _print_lines, "json": _print_data, "nothing": None}


def main(state: str, show: str, descriptor: str) -> None:
    """Sit there until the gate ends."""
    run_desk(int(descriptor), Path(state), SHOW[show])


if __name__ == "__main__":
    main(*sys.argv[1:])

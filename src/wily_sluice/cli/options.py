"""Options that several commands share, and the exit codes."""

from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

import click

from wily_sluice.plan.model import Plan
from wily_sluice.units import Nanoseconds, parse_time
from wily_sluice.views.plan.schedules import read_moment

CLEAN, WARNINGS, ERRORS, REFUSED = 0, 1, 2, 3
INTERRUPTED = 130  # as shells have it: 128 and the number of SIGINT

Command = TypeVar("Command", bound=Callable[..., Any])


class Refusal(click.ClickException):
    """The command cannot be carried out here and now: the message says why, and what would help."""

    exit_code = REFUSED


class Time(click.ParamType[Nanoseconds]):
    """A span of time, in nanoseconds."""

    name = "time"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> Nanoseconds:
        """Parse a span of time."""
        if isinstance(value, int):
            return value
        try:
            return parse_time(value)
        except ValueError as error:
            self.fail(str(error), param, ctx)


def plan_option(command: Command) -> Command:
    """`-p/--plan FILE`."""
    return click.option(
        "-p",
        "--plan",
        "plan_file",
        type=click.Path(path_type=Path),
        envvar="SLUICE_PLAN",
        default=Path("sluice.yaml"),
        show_default="$SLUICE_PLAN, then ./sluice.yaml",
        metavar="FILE",
        help="The plan file.",
    )(command)


COST = "cost.json"  # in the folder of the state: what was measured on this machine

state_option = click.option(
    "--state",
    type=click.Path(path_type=Path, file_okay=False),
    envvar="SLUICE_STATE",
    default=Path("/var/lib/wily-sluice"),
    show_default="$SLUICE_STATE, then /var/lib/wily-sluice",
    metavar="FOLDER",
    help="Where the gate keeps its history and counters.",
)

json_option = click.option("--json", "as_json", is_flag=True, help="Print the data as JSON.")


def choose_uplinks(plan: Plan, name: str | None) -> list[Any]:
    """All uplinks, or the one that is named."""
    chosen = [uplink for uplink in plan.uplinks if name in (None, uplink.name)]
    if not chosen:
        known = ", ".join(uplink.name for uplink in plan.uplinks)
        raise click.BadParameter(f"there is no uplink “{name}”; there are {known}", param_hint="--uplink")
    return chosen


def at_option(meaning: str) -> Callable[[Command], Command]:
    """`--at MOMENT`, with what it means here."""
    return click.option("--at", "at", metavar="MOMENT", help=meaning)


def read_at(plan: Plan, at: str | None) -> datetime | None:
    """The moment that `--at` says, in the site's time zone."""
    if at is None:
        return None
    try:
        return read_moment(at, ZoneInfo(plan.timezone))
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--at") from None

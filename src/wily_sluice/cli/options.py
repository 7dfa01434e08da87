"""Options that several commands share, and the exit codes. Nothing heavy is imported until it is used."""

from __future__ import annotations

import os
import shlex
from collections.abc import Callable, Iterable
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click

from wily_sluice.units import Nanoseconds, Rate, parse_rate, parse_time

if TYPE_CHECKING:
    from datetime import datetime

    from click.shell_completion import CompletionItem

    from wily_sluice.plan.model import Plan

CLEAN, WARNINGS, ERRORS, REFUSED = 0, 1, 2, 3
INTERRUPTED = 130  # as shells have it: 128 and the number of SIGINT
USUAL_PLAN = Path("sluice.yaml")
USUAL = "$SLUICE_PLAN, then ./sluice.yaml"

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


class RateOf(click.ParamType[Rate]):
    """A rate, in bit/s."""

    name = "rate"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> Rate:
        """Parse a rate."""
        if isinstance(value, int):
            return value
        try:
            return parse_rate(str(value))
        except ValueError as error:
            self.fail(str(error), param, ctx)


def usual_plan() -> Path:
    """The plan file where none is named."""
    return Path(os.environ.get("SLUICE_PLAN") or USUAL_PLAN)


def plan_from(required: bool = True, usual: bool = True, argument: bool = True) -> Callable[[Command], Command]:
    """The plan as an argument, by `-p/--plan FILE`, in SLUICE_PLAN, or ./sluice.yaml; `-` is standard input.

    The command gets `plan_file`; None if a plan is not `required` and there is none. Without `usual`, only the command
    line counts. Without `argument`, the command's arguments are not plans.
    """

    def decorate(command: Command) -> Command:
        @wraps(command)
        def with_plan(*args: Any, **options: Any) -> Any:
            named, option = options.pop("plan_argument", None), options.pop("plan_option")
            if named is not None and option is not None:
                raise click.UsageError("the plan is given twice: as an argument and with --plan")
            chosen = named if named is not None else option
            if chosen is None and usual:
                chosen = usual_plan() if required or os.environ.get("SLUICE_PLAN") or USUAL_PLAN.exists() else None
            return command(*args, plan_file=chosen, **options)

        decorated = click.option(
            "-p",
            "--plan",
            "plan_option",
            type=click.Path(path_type=Path, allow_dash=True),
            metavar="FILE",
            help="The plan file" + "; - reads standard input" * argument + "." + f"  [default: {USUAL}]" * usual,
        )(with_plan)
        if not argument:
            return cast(Command, decorated)
        path = click.Path(path_type=Path, allow_dash=True)
        return cast(Command, click.argument("plan_argument", metavar="[PLAN]", type=path, required=False)(decorated))

    return decorate


COST = "cost.json"  # in the folder of the state: what was measured on this machine

state_option = click.option(
    "--state",
    # Not every command that takes it reads it, and the folder is root's alone.
    type=click.Path(path_type=Path, file_okay=False, readable=False),
    envvar="SLUICE_STATE",
    default=Path("/var/lib/wily-sluice"),
    metavar="FOLDER",
    help="Where the gate keeps its history and counters.  [default: $SLUICE_STATE, then /var/lib/wily-sluice]",
)


def _remember_json(ctx: click.Context, _: click.Parameter, value: bool) -> bool:
    ctx.meta["sluice.json"] = value
    return value


json_option = click.option(
    "--json", "as_json", is_flag=True, callback=_remember_json, help="Print the data, and errors, as JSON."
)


def renamed(old: str, new: str) -> Callable[[Command], Command]:
    """Refuses an option that has another name now, and says which."""

    def refuse(_: click.Context, __: click.Parameter, value: object) -> None:
        if value:
            raise click.UsageError(f"{old} is called {new}")

    place = f"renamed_{old.strip('-')}"  # not that of the option that has taken its place
    return click.option(old, place, hidden=True, expose_value=False, callback=refuse)


csv_option = click.option("--csv", "as_csv", is_flag=True, help="Print the table as CSV.")


def names_in_plan(find: Callable[[Plan], Iterable[str]]) -> Callable[..., list[CompletionItem]]:
    """Completes an option with names of the plan that the command line has."""

    def complete(ctx: click.Context, _: click.Parameter, incomplete: str) -> list[CompletionItem]:
        from click.shell_completion import CompletionItem

        from wily_sluice.errors import SluiceError
        from wily_sluice.outside.files import load

        # Where the last option still lacks its value, Click leaves all words as they are.
        values = [ctx.params.get(key) for key in ("plan_argument", "plan_option")] + [Path(word) for word in ctx.args]
        values += [Path(os.environ["SLUICE_PLAN"])] if os.environ.get("SLUICE_PLAN") else []
        file = next((value for value in values if isinstance(value, Path) and value.is_file()), USUAL_PLAN)
        try:
            names = dict.fromkeys(find(load(file)))
        except (SluiceError, OSError):
            return []
        # Bash puts what it is given into the line as it is; the other shells quote it themselves.
        quoted = shlex.quote if os.environ.get("_SLUICE_COMPLETE") == "bash_complete" else str
        return [CompletionItem(quoted(name)) for name in names if name.startswith(incomplete)]

    return complete


def uplink_names(plan: Plan) -> list[str]:
    """Of all uplinks."""
    return [uplink.name for uplink in plan.uplinks]


def queue_paths(plan: Plan) -> list[str]:
    """Of all queues of all trees."""
    return [queue.path for tree in plan.trees.values() for queue in tree.walk()]


uplink_option = click.option(
    "--uplink", metavar="NAME", shell_complete=names_in_plan(uplink_names), help="Only this uplink."
)


def choose_uplinks(plan: Plan, name: str | None) -> list[Any]:
    """All uplinks, or the one that is named."""
    chosen = [uplink for uplink in plan.uplinks if name in (None, uplink.name)]
    if not chosen:
        from wily_sluice.plan.file.words import suggestion

        hint = suggestion(str(name), uplink_names(plan))
        raise click.BadParameter(f"there is no uplink “{name}”: {hint}", param_hint="--uplink")
    return chosen


def at_option(meaning: str) -> Callable[[Command], Command]:
    """`--at MOMENT`, with its meaning for the command."""
    return click.option("--at", "at", metavar="MOMENT", help=meaning)


def read_at(plan: Plan, at: str | None) -> datetime | None:
    """The moment that `--at` says, in the site's time zone."""
    if at is None:
        return None
    from zoneinfo import ZoneInfo

    from wily_sluice.plan.schedules.moment import read_moment

    try:
        return read_moment(at, ZoneInfo(plan.timezone))
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--at") from None

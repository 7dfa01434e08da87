"""The `sluice` command: its groups, and the one place where errors become messages."""

import sys
from contextlib import suppress
from importlib import import_module
from typing import Any

import click

from wily_sluice import __version__
from wily_sluice.cli import streams
from wily_sluice.cli.options import ERRORS, INTERRUPTED, REFUSED, Refusal
from wily_sluice.errors import SluiceError
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.views.text.console import console
from wily_sluice.views.text.findings import count_findings, print_findings

# Where each command is. A command's module is imported when it is needed: some bring a lot with them.
COMMANDS = {
    "apply": "life",
    "check": "check",
    "demo": "demo",
    "diff": "life",
    "gate": "gate",
    "history": "life",
    "keep": "life",
    "lab": "lab",
    "names": "usage",
    "rig": "rig",
    "share": "share",
    "show": "show",
    "trace": "trace",
    "undo": "life",
    "usage": "usage",
    "watch": "watch",
}


class Sluice(click.Group):
    """Turns what is wrong with a file into its findings."""

    def main(self, *args: Any, **extra: Any) -> Any:
        """Run the whole program, whatever its output is led to."""
        streams.prepare()
        try:
            try:
                return super().main(*args, **extra)
            finally:
                sys.stdout.flush()
        except OSError as error:
            streams.give_up()
            where = error.filename or "standard output"
            with suppress(OSError):
                click.echo(f"Error: {where}: {error.strerror or error}", err=True)
            raise SystemExit(REFUSED) from None

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All of them."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """One of them, imported."""
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = getattr(import_module(f"wily_sluice.cli.{COMMANDS[cmd_name]}"), cmd_name)
        return command

    def invoke(self, ctx: click.Context) -> Any:
        """Run the command."""
        try:
            return super().invoke(ctx)
        except FileError as error:
            print_findings(console(stderr=True), error.findings)
            click.echo(count_findings(error.findings), err=True)
            ctx.exit(ERRORS)
        except SluiceError as error:
            raise Refusal(str(error)) from None
        except KeyboardInterrupt:
            click.echo("ended at your word; nothing is left half done", err=True)
            ctx.exit(INTERRUPTED)


@click.group(cls=Sluice, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="sluice")
def sluice() -> None:
    """Plan, forecast and shape the internet line of a small office or a home.

    Two directions: `up` is toward the internet, `down` is toward your hosts.

    \b
    A first look, on the demo site:
      sluice demo                 check, split and simulate it; no root needed
      sluice demo --save FOLDER   write its files, to start from
    """

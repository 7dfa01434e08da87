"""The `sluice` command: its groups, and the one place where errors become messages."""

from typing import Any

import click

from wily_sluice import __version__
from wily_sluice.cli.check import check
from wily_sluice.cli.demo import demo
from wily_sluice.cli.gate import gate
from wily_sluice.cli.lab import lab
from wily_sluice.cli.life import apply, diff, history, keep, undo
from wily_sluice.cli.options import ERRORS, INTERRUPTED, Refusal
from wily_sluice.cli.rig import rig
from wily_sluice.cli.share import share
from wily_sluice.cli.show import show
from wily_sluice.cli.trace import trace
from wily_sluice.cli.watch import watch
from wily_sluice.gate.errors import LiveError
from wily_sluice.plan.finding import FileError
from wily_sluice.views.console import console
from wily_sluice.views.findings import count_findings, print_findings


class Sluice(click.Group):
    """Turns what is wrong with a file into its findings."""

    def invoke(self, ctx: click.Context) -> Any:
        """Run the command."""
        try:
            return super().invoke(ctx)
        except FileError as error:
            print_findings(console(stderr=True), error.findings)
            click.echo(count_findings(error.findings), err=True)
            ctx.exit(ERRORS)
        except LiveError as error:
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


for command in (check, show, share, lab, trace, gate, apply, keep, undo, history, diff, watch, rig, demo):
    sluice.add_command(command)

"""The `sluice` command: its commands in groups, and the one place where errors become messages."""

import gc
import os
import sys
from contextlib import suppress
from dataclasses import dataclass
from difflib import get_close_matches
from importlib import import_module
from typing import Any

import click

from wily_sluice import __version__
from wily_sluice.cli import streams
from wily_sluice.cli.options import ERRORS, INTERRUPTED, REFUSED, Refusal
from wily_sluice.errors import SluiceError

os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")  # to look for them takes longer than to read a plan


@dataclass(frozen=True, slots=True)
class Entry:
    """A command: its module, which is imported only for this command, and a one-line summary."""

    module: str
    summary: str


GROUPS: dict[str, dict[str, Entry]] = {
    "Plan": {
        "new": Entry("planning.new", "Make a first plan from a few questions."),
        "check": Entry("planning.check", "Find errors and risks in a plan."),
        "show": Entry("planning.show", "Show a plan with all rates calculated."),
        "split": Entry("planning.split", "Compute the rate of each queue on a full uplink."),
        "classify": Entry("planning.classify", "Show which rule, queue and limiters a conversation gets, and why."),
        "explain": Entry("planning.explain", "Explain a finding, a term, a choice, a rate or a line of a plan."),
        "edit": Entry("planning.edit", "Change a plan from the command line."),
        "diff": Entry("running.life", "Compare two plans or revisions."),
    },
    "Run": {
        "doctor": Entry("running.doctor", "Find problems of this machine that break shaping or falsify figures."),
        "gate": Entry("running.gate", "Shape the packets that cross this machine's uplinks."),
        "apply": Entry("running.life", "Switch the running gate to a new plan, on trial."),
        "keep": Entry("running.life", "Keep the plan that is on trial."),
        "undo": Entry("running.life", "End a trial, or return to an earlier plan."),
        "history": Entry("running.life", "List the plans that the gate has run, or its events."),
    },
    "Measure": {
        "gauge": Entry("trying.gauge", "Measure the line between two machines."),
        "prove": Entry("trying.prove", "Test every promise of a plan, with a figure for each."),
        "compare": Entry("trying.compare", "Show the differences between two results."),
    },
    "Observe": {
        "watch": Entry("running.watch", "Watch the gate live in the terminal."),
        "usage": Entry("running.usage", "Show who used the uplinks, when and how much."),
        "report": Entry("running.report", "Write a page about the use of the uplinks."),
        "contacts": Entry("running.usage", "List the names that each host contacted."),
        "mappings": Entry("running.mappings", "List the mappings of hosts, or close some."),
    },
    "Try": {
        "demo": Entry("trying.demo", "See a plan checked, split and simulated on the demo site."),
        "lab": Entry("trying.lab", "Simulate your traffic before and after the plan; no packet is sent."),
        "rig": Entry("trying.rig", "Build your site from namespaces, to try the gate on real packets."),
    },
    "Set up": {
        "completion": Entry("setup", "Print the completion script for a shell."),
        "schema": Entry("setup", "Print the JSON Schema of plan or traffic files, for editors."),
    },
}
COMMANDS = {name: entry for group in GROUPS.values() for name, entry in group.items()}

# What people call a command elsewhere in the trade.
SYNONYMS = {
    "validate": "check", "lint": "check",
    "measure": "gauge", "ping": "gauge", "speed": "gauge", "latency": "gauge",
    "verify": "prove", "test": "prove", "assert": "prove",
    "list": "show", "print": "show", "tree": "show",
    "forecast": "split", "rates": "split", "bandwidth": "split",
    "match": "classify", "why": "classify", "lookup": "classify",
    "changes": "diff", "versus": "compare", "summary": "report", "page": "report",
    "help": "explain", "glossary": "explain", "describe": "explain", "define": "explain",
    "init": "new", "create": "new", "setup": "new", "wizard": "new",
    "set": "edit", "add": "edit", "modify": "edit", "change": "edit", "rename": "edit",
    "diagnose": "doctor", "health": "doctor", "troubleshoot": "doctor",
    "start": "gate", "run": "gate", "stop": "gate", "status": "gate", "install": "gate",
    "load": "apply", "activate": "apply", "switch": "apply",
    "confirm": "keep", "commit": "keep", "save": "keep", "accept": "keep",
    "revert": "undo", "rollback": "undo", "restore": "undo",
    "log": "history", "revisions": "history",
    "monitor": "watch", "live": "watch", "stats": "usage", "statistics": "usage",
    "names": "contacts", "domains": "contacts", "ports": "mappings", "forwards": "mappings", "openings": "mappings",
    "simulate": "lab", "simulation": "lab", "testbed": "rig", "namespaces": "rig",
}  # fmt: skip


def nearest(word: str, known: list[str], synonyms: dict[str, str]) -> str:
    """`did you mean “check”?` for a word that is close to one, or means one; else empty."""
    near = get_close_matches(word, known, n=1, cutoff=0.7)
    meant = near[0] if near else synonyms.get(word.lower(), "")
    return f"did you mean “{meant}”?" if meant in known else ""


class Sluice(click.Group):
    """Loads commands when they are used, and turns errors into messages: as JSON where --json is given."""

    def main(self, *args: Any, **extra: Any) -> Any:
        """Run the whole program, with any redirection of its output."""
        streams.prepare()
        words = list(extra.get("args") or (args[0] if args and args[0] is not None else sys.argv[1:]))
        as_json = "--json" in words[: words.index("exec") if "exec" in words else None]
        try:
            try:
                if not as_json or not extra.get("standalone_mode", True):
                    return super().main(*args, **extra)
                raise SystemExit(self._main_for_json(*args, **extra))
            finally:
                sys.stdout.flush()
        except OSError as error:
            streams.give_up()
            where = error.filename or "standard output"
            with suppress(OSError):
                click.echo(f"Error: {where}: {error.strerror or error}", err=True)
            raise SystemExit(REFUSED) from None

    def _main_for_json(self, *args: Any, **extra: Any) -> int:
        """The exit status; errors are printed as a JSON object."""
        extra["standalone_mode"] = False
        try:
            status = super().main(*args, **extra)
            return status if isinstance(status, int) else 0
        except click.ClickException as error:
            message, status = error.format_message(), error.exit_code
        except click.Abort:
            message, status = "interrupted", INTERRUPTED
        from wily_sluice.views.text.console import print_json

        print_json({"error": {"message": message, "status": status}})
        return status

    def list_commands(self, ctx: click.Context) -> list[str]:
        """All of them."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """The command, imported on demand."""
        if cmd_name not in COMMANDS:
            return None
        gc.disable()  # to import makes many objects, and none of them is garbage
        module = import_module(f"wily_sluice.cli.{COMMANDS[cmd_name].module}")
        gc.enable()
        command: click.Command = getattr(module, cmd_name)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """The command; an unknown one is refused with a suggestion."""
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            hint = nearest(args[0], list(COMMANDS), SYNONYMS) or "see sluice --help"
            ctx.fail(f"there is no command “{args[0]}”: {hint}")
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The commands in their groups, without importing them."""
        for title, group in GROUPS.items():
            with formatter.section(title):
                formatter.write_dl([(name, entry.summary) for name, entry in group.items()])

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[Any]:
        """Names of commands, without importing them."""
        from click.shell_completion import CompletionItem

        items = [CompletionItem(n, help=e.summary) for n, e in COMMANDS.items() if n.startswith(incomplete)]
        return items + click.Command.shell_complete(self, ctx, incomplete)

    def invoke(self, ctx: click.Context) -> Any:
        """Run the command."""
        try:
            return super().invoke(ctx)
        except SluiceError as error:
            findings = getattr(error, "findings", None)
            if findings is None:
                raise Refusal(str(error)) from None
            from wily_sluice.views.text.console import console, print_json
            from wily_sluice.views.text.findings import count_findings, findings_data, print_findings

            if ctx.meta.get("sluice.json"):
                print_json({"findings": findings_data(findings)})
            else:
                print_findings(console(stderr=True), findings)
                click.echo(count_findings(findings), err=True)
            ctx.exit(ERRORS)
        except KeyboardInterrupt:
            click.echo("interrupted; nothing left half done", err=True)
            ctx.exit(INTERRUPTED)


def _print_version(ctx: click.Context, _: click.Parameter, wanted: bool) -> None:
    if wanted and not ctx.resilient_parsing:
        from wily_sluice.outside.machine import version_words

        click.echo(version_words(__version__))
        ctx.exit()


@click.group(cls=Sluice, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.option(
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=_print_version,
    help="Print the version, and whether the engine is compiled.",
)
def sluice() -> None:
    """Plan, forecast and shape the internet uplinks of a small office or a home.

    There are two directions: `up` toward the internet, `down` toward your hosts.

    \b
    A first look, on the demo site; no root needed:
      sluice demo                 check its plan, split and simulate its line
      sluice demo --save FOLDER   copy its files, to make them your own
    """

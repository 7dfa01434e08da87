"""`sluice new`: a first plan, from questions, from a file of answers, or from a site like it."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wily_sluice.cli.options import CLEAN, INTERRUPTED, USUAL_PLAN, Refusal, json_option
from wily_sluice.plan.file.yaml_text import YamlError, parse
from wily_sluice.units import SECOND

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

    from wily_sluice.cli.planning.interview import Interview


class _Part(click.ParamType[Any]):
    """An answer in YAML."""

    name = "yaml"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Parse the YAML of an option."""
        if not isinstance(value, str):
            return value
        try:
            return parse(value)[0]
        except YamlError as error:
            self.fail(f"{value!r} {error}", param, ctx)


def _sites(_ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    from click.shell_completion import CompletionItem

    from wily_sluice.examples import sites

    known = {"list": "List the sites.", **{name: site.about for name, site in sites().items()}}
    return [CompletionItem(name, help=about) for name, about in known.items() if name.startswith(incomplete)]


PART = _Part()
LINE = "{interface: wan0, kind: fibre, measured: {down: 180 Mbit/s, up: 24 Mbit/s}}"


@click.command()
@click.option(
    "-o",
    "--output",
    type=click.Path(path_type=Path),
    default=USUAL_PLAN,
    show_default=True,
    metavar="FILE",
    help="Where to write the plan.",
)
@click.option(
    "--like", metavar="NAME", shell_complete=_sites, help="Copy a complete site instead; `--like list` lists them."
)
@click.option("--from", "from_file", type=click.Path(path_type=Path), metavar="FILE", help="Read answers from YAML.")
@click.option("--save-answers", type=click.Path(path_type=Path), metavar="FILE", help="Write the answers, for --from.")
@click.option("--site", metavar="NAME", help="The name of the site.")
@click.option("--timezone", metavar="ZONE", help="Its time zone, such as Europe/Dublin.")
@click.option("--uplink", "uplinks", type=PART, multiple=True, metavar="LINE", help=f"A line: 'NAME: {LINE}'.")
@click.option(
    "--network",
    "networks",
    type=PART,
    multiple=True,
    metavar="NETWORK",
    help="A network: 'NAME: {interface: lan0, subnets: [192.0.2.0/24]}'.",
)
@click.option("--first", metavar="WORDS", help="What matters most, in order: 'calls play web'.")
@click.option("--films", metavar="NAMES", help="The names that films and music come from: 'films.example'.")
@click.option(
    "--guests", type=PART, metavar="GUESTS", help="Limit guests: '{network: guests, down: 5 Mbit/s, up: 1 Mbit/s}'."
)
@click.option(
    "--host",
    type=PART,
    metavar="HOST",
    help="Limit a host: '{addresses: [192.0.2.9], down: 20 Mbit/s, up: 2 Mbit/s}'.",
)
@click.option("--alike/--not-alike", default=None, help="Whether all hosts share equally.")
@click.option("--when", metavar="WINDOWS", help="When the limits apply: 'mon-fri 08:00-18:30'.")
@click.option("--dry-run", is_flag=True, help="Print the plan, and write nothing.")
@click.option("--force", is_flag=True, help="Replace an existing file.")
@click.option("--forecast/--no-forecast", default=True, help="Whether to simulate a busy evening.")
@json_option
@click.pass_context
def new(
    context: click.Context,
    /,
    output: Path,
    like: str | None,
    dry_run: bool,
    force: bool,
    forecast: bool,
    as_json: bool,
    from_file: Path | None,
    save_answers: Path | None,
    **options: Any,
) -> None:
    """Make a first plan from a few questions.

    Asks for your uplinks and networks, for the traffic that matters most and for hosts to limit. The plan has a comment
    for every figure. Options answer questions in advance; with all of them, or with --from, there are no questions.
    Then `new` checks the plan, shows who gets what, and simulates a busy evening. It writes the file at the very end.

    \b
    Examples:
      sluice new
      sluice new --like list
      sluice new --like shop --output shop.yaml
      sluice new --from answers.yaml --dry-run
    """
    from wily_sluice.outside.files import write_new

    if like is not None:
        _copy(like, output, dry_run, force, as_json)
        return
    if output.exists() and not force and not dry_run:
        raise Refusal(f"{output} is there already: name another with --output, or use --force")
    shown = not dry_run and not as_json
    try:
        content, answers, interview = _plan(from_file, options)
        if shown:
            while not _agreed(output, content, forecast, asked=interview is not None):
                assert interview is not None
                content, answers = _written(interview.again())
    except (click.Abort, KeyboardInterrupt):
        click.echo("\nnothing was written", err=True)
        context.exit(INTERRUPTED)
    except _Kept:
        kept = save_answers or output.with_suffix(".answers.yaml")
        write_new(kept, answers.encode(), force)
        click.echo(f"{kept}: your answers. Correct them, then: sluice new --from {kept}")
        context.exit(CLEAN)
    _finish(output, content, answers, save_answers, dry_run, force, as_json)


class _Kept(Exception):  # not an error: the person wants the answers in a file, and no plan yet
    pass


def _written(answers: dict[str, Any]) -> tuple[str, str]:
    """The plan's text, and the answers in the form of a file."""
    import yaml

    from wily_sluice.outside.plan_edits import TextFile
    from wily_sluice.plan.start.answers import read_answers
    from wily_sluice.plan.start.write import write_plan

    answers.setdefault("site", "Home")
    text = yaml.safe_dump(answers, sort_keys=False, allow_unicode=True, width=110)
    return write_plan(read_answers(TextFile(Path("answers"), text.encode()))), text


def _plan(from_file: Path | None, options: dict[str, Any]) -> tuple[str, str, Interview | None]:
    """The plan's text, the answers in the form of a file, and the interview, if there was one."""
    from wily_sluice.outside.files import source_of
    from wily_sluice.plan.start.answers import read_answers
    from wily_sluice.plan.start.write import write_plan

    answers = _given(options)
    if from_file is not None:
        if answers:
            raise click.UsageError("with --from, all answers are in the file")
        source = source_of(from_file)
        return write_plan(read_answers(source)), source.read(1_000_000).decode("utf-8", "replace"), None
    if sys.stdin.isatty():
        from wily_sluice.cli.planning.interview import Interview
        from wily_sluice.cli.planning.questions import questions

        interview = Interview(answers, questions)
        return *_written(interview.run()), interview
    if needed := [option for key, option in (("uplinks", "--uplink"), ("networks", "--network")) if key not in answers]:
        raise Refusal(f"no terminal to ask on: give {' and '.join(needed)}, or --from FILE")
    return *_written(answers), None


def _given(options: dict[str, Any]) -> dict[str, Any]:
    """The answers that options gave."""
    answers: dict[str, Any] = {}
    for key, value in options.items():
        if value is None or value == ():
            continue
        if key in ("uplinks", "networks"):
            if not all(isinstance(part, dict) for part in value):
                raise click.BadParameter(f"write 'NAME: {{…}}', such as 'fibre: {LINE}'", param_hint=f"--{key[:-1]}")
            answers[key] = {name: part for entry in value for name, part in entry.items()}
        elif key == "first":
            answers[key] = value.replace(",", " ").split()
        elif key in ("when", "films"):
            answers[key] = [part.strip() for part in value.split(",")]
        else:
            answers[key] = value
    return answers


def _agreed(output: Path, content: str, forecast: bool, asked: bool) -> bool:
    """Check the plan and show its forecast. Whether it may be written; False to return to the questions.

    Raises click.Abort if it may not, and _Kept if only the answers should be kept.
    """
    from wily_sluice.outside.plan_edits import TextFile
    from wily_sluice.plan import read
    from wily_sluice.plan.findings.finding import FileError
    from wily_sluice.views.text.console import console
    from wily_sluice.views.text.findings import count_findings, print_findings

    plan, findings = read.examine(TextFile(output, content.encode()))
    if plan is None and not asked:
        raise FileError(findings)
    print_findings(console(), findings)
    click.echo(f"\n{output}: {count_findings(findings)}\n")
    if plan is not None:
        _show(plan, forecast)
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        if plan is None:
            raise FileError(findings)
        return True
    words = ("back", "save", "no") if plan is None else ("yes", "no", "back", "save")
    click.echo()
    while True:
        prompt = f"Write {output}?" if plan is not None else "These answers do not give a plan."
        about = "back: to the last question; save: keep the answers in a file"
        default = words[0]
        answer = click.prompt(f"{prompt} {'/'.join(words)} ({about})", default=default, prompt_suffix=" > ").lower()
        chosen = next((word for word in words if answer and word.startswith(answer)), "")
        if chosen == "save":
            raise _Kept
        if chosen == "no":
            raise click.Abort
        if chosen == "back" and not asked:
            click.echo("nothing was asked here: the answers are in the file")
        elif chosen:
            return chosen == "yes"


def _finish(
    output: Path,
    content: str,
    answers: str,
    save_answers: Path | None,
    dry_run: bool,
    force: bool,
    as_json: bool,
) -> None:
    """Write the plan, and print the next steps."""
    from wily_sluice.outside.files import write_new
    from wily_sluice.outside.plan_edits import TextFile
    from wily_sluice.plan import read
    from wily_sluice.views.text.console import print_json
    from wily_sluice.views.text.findings import findings_data

    if dry_run and not as_json:
        click.echo(content, nl=False)
        return
    if not dry_run:
        write_new(output, content.encode(), force)
        if save_answers is not None:
            write_new(save_answers, answers.encode(), force)
    if as_json:
        findings = read.examine(TextFile(output, content.encode()))[1]
        print_json({"file": str(output), "written": not dry_run, "plan": content, "findings": findings_data(findings)})
        return
    click.echo(f"{output}: written\n")
    _next(output)


def _show(plan: Any, forecast: bool) -> None:
    """The split on a full line, and the forecast of an evening."""
    from wily_sluice.cli.trying.lab import compare_with_progress
    from wily_sluice.forecast.lab.usual_traffic import usual_traffic
    from wily_sluice.forecast.split import split
    from wily_sluice.plan.rates import resolve
    from wily_sluice.views.forecast.lab import print_lab
    from wily_sluice.views.forecast.split import split_tables
    from wily_sluice.views.text.console import console

    screen = console()
    uplink = plan.uplinks[0]
    for tree, ways in plan.trees_of(uplink):
        for table in split_tables(screen, uplink, tree, {way: split(resolve(plan, uplink, way), {}) for way in ways}):
            screen.print(table)
    if not forecast:
        return
    try:
        traffic = usual_traffic(plan)
    except ValueError:
        return
    seconds = f"{traffic.duration / SECOND:.0f} s"
    click.echo(f"\n{seconds} of a busy evening, simulated, without the plan and with it:")
    print_lab(screen, compare_with_progress(plan, traffic))


def _next(output: Path) -> None:
    name = "" if output == USUAL_PLAN else f" {output}"
    click.echo(f"Next: sluice show{name}                the plan in sentences")
    click.echo(f"      sudo sluice gate cost{name}      whether this machine can carry it")
    click.echo(f"      sudo sluice gate run{name}       shape real packets; Ctrl-C ends it")


def _copy(like: str, output: Path, dry_run: bool, force: bool, as_json: bool) -> None:
    """Copy a complete site, or list them."""
    from wily_sluice.examples import sites
    from wily_sluice.outside.files import write_new
    from wily_sluice.plan.file.words import suggestion

    known = sites()
    if like == "list":
        if as_json:
            click.echo(json.dumps({name: site.about for name, site in known.items()}, indent=2))
        else:
            width = max(map(len, known))
            for name, site in known.items():
                click.echo(f"{name:<{width}}  {site.about}")
        return
    if like not in known:
        raise click.BadParameter(f"there is no site “{like}”: {suggestion(like, list(known))}", param_hint="--like")
    content = known[like].file.read_bytes()
    if dry_run:
        click.echo(content.decode(), nl=False)
        return
    write_new(output, content, force)
    click.echo(f"{output}: written; change its interfaces, rates and subnets to yours\n")
    _next(output)

"""`sluice explain`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from wily_sluice.cli.options import json_option, plan_from

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

    from wily_sluice.plan.findings.finding import Finding
    from wily_sluice.plan.model import Plan


def _known(_: click.Context, __: click.Parameter, incomplete: str) -> list[CompletionItem]:
    from click.shell_completion import CompletionItem

    from wily_sluice.plan.explain.choices import CHOICES
    from wily_sluice.plan.explain.glossary import GLOSSARY
    from wily_sluice.plan.findings.registry import CODES

    words = [*CODES, *(term.name for term in GLOSSARY), "choice", *CHOICES]
    return [CompletionItem(word) for word in words if word.startswith(incomplete)]


@click.command()
@click.argument("words", metavar="[WHAT]...", nargs=-1, shell_complete=_known)
@plan_from(required=False, argument=False)
@json_option
def explain(words: tuple[str, ...], plan_file: Path | None, as_json: bool) -> None:
    """Explain a finding, a term, a choice, a rate or a line of a plan.

    WHAT is the code of a finding, a term, a rate, FILE:LINE, or `choice` with discipline, aqm, headroom, framing, burst
    or excess. Examples come from your plan if there is one. Without WHAT, lists everything that can be explained.

    \b
    Examples:
      sluice explain default-starves
      sluice explain guarantee
      sluice explain choice discipline
      sluice explain 24Mb/s
      sluice explain sluice.yaml:12
    """
    from wily_sluice.views.plan import explain as view
    from wily_sluice.views.text.console import console, print_json

    screen = console()
    if not words:
        view.print_all(screen)
        return
    what = " ".join(words)
    if (line := _line(what, plan_file)) is not None:
        _explain_line(*line, as_json)
        return
    plan, findings = _plan(plan_file)
    data, show = _found(what, plan, findings)
    if as_json:
        print_json(data)
    else:
        show(screen)


def _plan(plan_file: Path | None) -> tuple[Plan | None, list[Finding]]:
    from wily_sluice.outside.files import examine

    return examine(plan_file) if plan_file is not None else (None, [])


def _line(what: str, plan_file: Path | None) -> tuple[Path, int] | None:
    """A file and a line number, if WHAT names them."""
    file, colon, number = what.rpartition(":")
    if not number.isascii() or not number.isdigit() or (colon and not file):
        return None
    if colon:
        return Path(file), int(number)
    return (plan_file, int(number)) if plan_file is not None else None


def _explain_line(plan_file: Path, number: int, as_json: bool) -> None:
    from wily_sluice.cli.options import Refusal
    from wily_sluice.outside.files import examine
    from wily_sluice.plan.findings.finding import FileError
    from wily_sluice.views.plan.explain import line_lines
    from wily_sluice.views.text.console import console, print_json, print_line
    from wily_sluice.views.text.findings import findings_data, print_findings

    plan, findings = examine(plan_file)
    here = [finding for finding in findings if finding.line == number]
    if plan is None and not here:
        raise FileError(finding for finding in findings if finding.severity == "error")
    lines = line_lines(plan, number) if plan is not None else []
    if not lines and not here:
        raise Refusal(f"nothing begins on line {number} of {plan_file}")
    if as_json:
        print_json({"file": str(plan_file), "line": number, "text": lines, "findings": findings_data(here)})
        return
    screen = console()
    for line in lines:
        print_line(screen, line)
    print_findings(screen, here)


def _found(what: str, plan: Plan | None, findings: list[Finding]) -> tuple[dict[str, Any], Any]:
    """The explanation, as data and as a printer."""
    from wily_sluice.plan.explain.choices import CHOICES, rate_facts
    from wily_sluice.plan.explain.glossary import BY_NAME
    from wily_sluice.plan.file.words import suggestion
    from wily_sluice.plan.findings.registry import CODES
    from wily_sluice.units import parse_rate
    from wily_sluice.views.plan import explain as view

    word = what.lower().removesuffix("?").strip()
    chosen = word.removeprefix("choice").strip()
    if word in CODES:
        kind, matching = CODES[word], [finding for finding in findings if finding.code == word]
        return view.kind_data(kind, matching), lambda screen: view.print_finding_kind(screen, kind, matching)
    if word.startswith("choice"):
        if chosen not in CHOICES:
            known = suggestion(chosen, list(CHOICES)) if chosen else f"known here: {', '.join(CHOICES)}"
            raise click.BadParameter(f"there is no choice “{chosen}”: {known}" if chosen else known)
        choice = CHOICES[chosen]
        return view.choice_data(choice, plan), lambda screen: view.print_choice(screen, choice, plan)
    term = BY_NAME.get(word.replace(" ", "-"))
    if term is not None:
        return view.term_data(term, plan), lambda screen: view.print_term(screen, term, plan)
    if word[:1].isdigit():
        try:
            rate = parse_rate(what)
        except ValueError as error:
            raise click.BadParameter(str(error)) from None
        if rate < 1:
            raise click.BadParameter("a rate of nothing has no facts")
        facts = rate_facts(rate)
        return {"rate": rate, "facts": dict(facts)}, lambda screen: view.print_facts(screen, facts)
    hint = suggestion(word, [*CODES, *BY_NAME], "`sluice explain` lists what there is")
    raise click.BadParameter(f"nothing is known of “{what}”: {hint}")

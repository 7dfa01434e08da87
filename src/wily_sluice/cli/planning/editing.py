"""Edits a plan file: checks the result, shows the difference, and writes the file completely or not at all.

Edits that are given together (`together`) are collected first, and made as one.
"""

from __future__ import annotations

import gc
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wily_sluice.cli.options import Refusal

if TYPE_CHECKING:
    from wily_sluice.plan.edit.edits import Edits
    from wily_sluice.plan.edit.operations import Operation
    from wily_sluice.plan.edit.text import YamlText
    from wily_sluice.plan.findings.finding import Finding
    from wily_sluice.plan.model import Plan

    Make = Callable[[Edits], list[Operation]]

MANY_RULES = 500  # beyond that, an edit looks for errors alone; `sluice check` finds the rest
STEPS = "sluice.steps"  # in the context: where edits that are given together are collected


def change(
    make: Make,
    words: str,
    plan_file: Path,
    dry_run: bool = False,
    force: bool = False,
    as_json: bool = False,
    measured: str = "",
    ask: bool = False,
) -> None:
    """Make an edit: check the result, show the difference, and write it; with `ask`, only if the person on the terminal
    agrees. `measured` is an uplink whose rates it sets from a measurement.
    """
    context = click.get_current_context(silent=True)
    steps: list[Make] | None = context.meta.get(STEPS) if context is not None else None
    if steps is not None:
        steps.append(make)
    else:
        change_all([make], words, plan_file, dry_run, force, as_json, measured, ask)


def change_all(
    makes: list[Make],
    words: str,
    plan_file: Path,
    dry_run: bool = False,
    force: bool = False,
    as_json: bool = False,
    measured: str = "",
    ask: bool = False,
) -> None:
    """Make several edits as one: only the final result needs to be free of errors."""
    from wily_sluice.outside.plan_edits import held
    from wily_sluice.plan.findings.finding import FileError

    with held(plan_file, force or dry_run) as file:
        before = text_of(file.content, plan_file)
        try:
            after, findings = _edited(plan_file, before, makes, measured)
        except FileError:
            click.echo(f"{plan_file}: not written, since the plan would have errors:", err=True)
            raise
        changed = after != before
        shown = ask and changed and not (dry_run or as_json)
        if shown:
            print_edit(before, after, findings)
            if sys.stdin.isatty() and not click.confirm(f"write {plan_file}?"):
                raise Refusal("not written; nothing was changed")
        if not dry_run and changed:
            file.write(after.encode(), words)
    if not changed and not as_json:
        click.echo(f"{plan_file}: nothing changed")
        return
    done = "written; `sluice edit undo` undoes it"
    if shown:
        click.echo(f"{plan_file}: {done}")
        return
    show_edit(plan_file, before, after, findings, None if dry_run or not changed else done, as_json)


def text_of(content: bytes, plan_file: Path) -> str:
    """The text of a plan file. Refusal if it is not UTF-8."""
    try:
        return content.decode("utf-8")
    except UnicodeDecodeError:
        raise Refusal(f"{plan_file} is not text in UTF-8") from None


def _edited(plan_file: Path, text: str, makes: list[Make], measured: str) -> tuple[str, list[Finding]]:
    """The text after edits, and the warnings that they bring. FileError with the errors that they would bring."""
    from wily_sluice.plan.edit.comments import refreshed
    from wily_sluice.plan.edit.edits import Edits
    from wily_sluice.plan.edit.fixes import new_findings
    from wily_sluice.plan.edit.operations import EditError, UnknownNameError
    from wily_sluice.plan.edit.text import YamlText
    from wily_sluice.plan.file.yaml_text import YamlError
    from wily_sluice.plan.findings.finding import FileError

    gc.disable()  # what is read lives until the end
    try:
        after = YamlText(text)
        for make in makes:
            after = after.after(make(Edits(after.data)))
    except YamlError as error:
        raise Refusal(f"{plan_file}{f':{error.line}' if error.line else ''}: {error}") from None
    except UnknownNameError as error:
        raise click.UsageError(str(error)) from None
    except EditError as error:
        raise Refusal(str(error)) from None
    plan, findings = _examined(plan_file, after)
    if findings:
        findings = new_findings(_examined(plan_file, YamlText(text))[1], findings)
    if any(finding.severity == "error" for finding in findings):
        raise FileError(finding for finding in findings if finding.severity == "error")
    return (refreshed(after, plan, measured) if plan is not None else after.text), findings


def _examined(plan_file: Path, text: YamlText) -> tuple[Plan | None, list[Finding]]:
    """A plan and its findings; for a large plan, only errors, because the rest is slow."""
    from wily_sluice.outside.plan_edits import TextFile
    from wily_sluice.plan.file.document import Document
    from wily_sluice.plan.file.source import allowances
    from wily_sluice.plan.read import examine, examine_document

    raw = text.text.encode()
    source = TextFile(plan_file, raw)
    if not text.data:
        return examine(source)
    rules = text.data.get("rules")
    document = Document(source.name, text.data, text.lines, raw, source, allowances=allowances(text.text))
    return examine_document(document, not isinstance(rules, list) or len(rules) <= MANY_RULES)


def show_edit(
    plan_file: Path, before: str, after: str, findings: list[Finding], done: str | None, as_json: bool
) -> None:
    """Print the difference, new findings, and the summary `done`; None if nothing changed."""
    from wily_sluice.views.plan.changes import edit_lines
    from wily_sluice.views.text.console import print_json
    from wily_sluice.views.text.findings import findings_data

    if as_json:
        data = {"diff": edit_lines(before, after), "findings": findings_data(findings)}
        print_json({"file": str(plan_file), "written": done is not None, **data})
        return
    print_edit(before, after, findings)
    click.echo(f"{plan_file}: {done or 'not written'}")


def print_edit(before: str, after: str, findings: list[Finding]) -> None:
    """The difference, and the findings that it brings."""
    from wily_sluice.views.plan.changes import edit_lines, print_diff
    from wily_sluice.views.text.console import console
    from wily_sluice.views.text.findings import print_findings

    screen = console()
    print_diff(screen, edit_lines(before, after))
    print_findings(screen, findings)

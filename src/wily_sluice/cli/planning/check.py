"""`sluice check`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wily_sluice.cli.options import CLEAN, ERRORS, WARNINGS, Refusal, json_option, plan_from
from wily_sluice.outside.files import STANDARD_INPUT, examine

if TYPE_CHECKING:
    from wily_sluice.plan.edit.fixes import Fixed


@click.command()
@plan_from()
@click.option("--strict", is_flag=True, help="Exit with status 1 if there are warnings.")
@click.option("--fix", is_flag=True, help="Fix findings without changing the effect of the plan.")
@click.option(
    "--improve", is_flag=True, help="Also make fixes that change the effect of the plan; shows the difference and asks."
)
@click.option("--yes", is_flag=True, help="With --improve: do not ask.")
@click.option("--dry-run", is_flag=True, help="With --fix or --improve: show the difference, and write nothing.")
@json_option
@click.pass_context
def check(
    context: click.Context,
    plan_file: Path,
    strict: bool,
    fix: bool,
    improve: bool,
    yes: bool,
    dry_run: bool,
    as_json: bool,
) -> None:
    """Find errors and risks in a plan.

    Reports everything at once, each finding with file, line, remedy and code; `sluice explain CODE` says more. A
    comment `# sluice: allow CODE REASON` on the line accepts a warning. Exits with status 0 if the plan can be used, 1
    if there are warnings and --strict is given, 2 if there are errors.

    --fix leaves every queue, limiter, route and mapping as it is, and every conversation in its queue. A fix that would
    change that is skipped, with the reason; --improve makes it.

    \b
    Examples:
      sluice check
      sluice check surgery.yaml --strict
      sluice check - < surgery.yaml
      sluice check --fix --dry-run
      sluice check --improve
    """
    name = "standard input" if plan_file == STANDARD_INPUT else str(plan_file)
    if dry_run and not (fix or improve):
        raise click.UsageError("--dry-run is for --fix and --improve")
    if yes and not improve:
        raise click.UsageError("--yes is for --improve")
    fixed = _fixed(plan_file, improve, yes, dry_run, as_json) if fix or improve else None
    findings = fixed.findings if fixed is not None else examine(plan_file)[1]
    if not findings and not as_json:
        click.echo(f"{name}: no errors, no warnings")
        return
    # What draws on a terminal takes longer to load than a plan to read: only findings need it.
    from wily_sluice.views.text.console import console, print_json
    from wily_sluice.views.text.findings import count_findings, findings_data, print_findings, print_skipped

    skipped = fixed.skipped if fixed is not None else []
    if as_json:
        data = {"file": name, "findings": findings_data(findings)}
        if fixed is not None:
            data["skipped"] = [{**findings_data([finding])[0], "why": why} for finding, why in skipped]
        print_json(data)
    else:
        print_findings(console(), findings)
        print_skipped(console(), skipped)
        fixable = sum(bool(finding.fix) for finding in findings)
        more = f"; `sluice check --fix` may fix {fixable}" if fixable and fixed is None else ""
        if skipped and not improve:
            more = f"; `sluice check --improve` makes {'this fix' if len(skipped) == 1 else 'these fixes'} if you agree"
        click.echo(f"{name}: {count_findings(findings)}{more}")
    severities = {finding.severity for finding in findings}
    context.exit(ERRORS if "error" in severities else WARNINGS if strict and "warning" in severities else CLEAN)


def _fixed(plan_file: Path, improve: bool, yes: bool, dry_run: bool, as_json: bool) -> Fixed:
    """The result of all fixes. Shows the difference, and writes it unless this is a dry run."""
    from wily_sluice.outside.plan_edits import TextFile, held
    from wily_sluice.plan.compare import compare
    from wily_sluice.plan.edit.fixes import fixed
    from wily_sluice.plan.read import examine as read
    from wily_sluice.views.plan.changes import edit_lines, print_changes, print_diff
    from wily_sluice.views.text.console import console

    def source(content: bytes) -> TextFile:
        return TextFile(plan_file, content)

    with held(plan_file, dry_run) as file:
        before = file.content
        result = fixed(before, source, improve)
        changed = result.content != before
        if changed and not as_json:
            print_diff(console(), edit_lines(before.decode(), result.content.decode()))
        if changed and improve and not as_json:
            old, new = read(source(before))[0], read(source(result.content))[0]
            if old is not None and new is not None:
                print_changes(console(), compare(old, new))
        if changed and improve and not (yes or dry_run):
            if not sys.stdin.isatty():
                raise Refusal("no terminal to confirm on: use --yes")
            if not click.confirm(f"write {plan_file}?"):
                raise Refusal("not written; nothing was changed")
        if changed and not dry_run:
            file.write(result.content, "check --improve" if improve else "check --fix")
    if changed and not as_json:
        click.echo(f"{plan_file}: {'not written' if dry_run else 'written; `sluice edit undo` undoes it'}")
    return result

"""`sluice check`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from wily_sluice.cli.options import CLEAN, ERRORS, WARNINGS, json_option, plan_from
from wily_sluice.outside.files import STANDARD_INPUT, examine

if TYPE_CHECKING:
    from wily_sluice.plan.findings.finding import Finding


@click.command()
@plan_from()
@click.option("--strict", is_flag=True, help="Exit with status 1 if there are warnings.")
@click.option(
    "--fix", is_flag=True, help="Fix findings that have a safe remedy, without changing the effect of the plan."
)
@click.option("--dry-run", is_flag=True, help="With --fix: show the difference, and write nothing.")
@json_option
@click.pass_context
def check(context: click.Context, plan_file: Path, strict: bool, fix: bool, dry_run: bool, as_json: bool) -> None:
    """Find errors and risks in a plan.

    Reports all of them at once, each with file, line, remedy and code; `sluice explain CODE` says more. A comment `#
    sluice: allow CODE REASON` on the line accepts a warning. Exits with status 0 if the plan can be used, 1 if there
    are warnings and --strict is given, 2 if there are errors.

    \b
    Examples:
      sluice check
      sluice check surgery.yaml --strict
      sluice check - < surgery.yaml
      sluice check --fix --dry-run
    """
    name = "standard input" if plan_file == STANDARD_INPUT else str(plan_file)
    if dry_run and not fix:
        raise click.UsageError("--dry-run is for --fix")
    findings = _fixed(plan_file, dry_run, as_json) if fix else examine(plan_file)[1]
    if not findings and not as_json:
        click.echo(f"{name}: no errors, no warnings")
        return
    # What draws on a terminal takes longer to load than a plan to read: only findings need it.
    from wily_sluice.views.text.console import console, print_json
    from wily_sluice.views.text.findings import count_findings, findings_data, print_findings

    if as_json:
        print_json({"file": name, "findings": findings_data(findings)})
    else:
        print_findings(console(), findings)
        fixable = sum(bool(finding.fix) for finding in findings)
        more = f"; `sluice check --fix` fixes {fixable}" if fixable and not fix else ""
        click.echo(f"{name}: {count_findings(findings)}{more}")
    severities = {finding.severity for finding in findings}
    context.exit(ERRORS if "error" in severities else WARNINGS if strict and "warning" in severities else CLEAN)


def _fixed(plan_file: Path, dry_run: bool, as_json: bool) -> list[Finding]:
    """The remaining findings after all safe fixes. The difference is shown."""
    from wily_sluice.outside.plan_edits import TextFile, held
    from wily_sluice.plan.edit.edits import fixed
    from wily_sluice.views.plan.changes import edit_lines, print_diff
    from wily_sluice.views.text.console import console

    with held(plan_file, dry_run) as file:
        before = file.content
        after, findings = fixed(before, lambda content: TextFile(plan_file, content))
        if after != before and not dry_run:
            file.write(after, "check --fix")
    if after != before and not as_json:
        print_diff(console(), edit_lines(before.decode(), after.decode()))
        click.echo(f"{plan_file}: {'not written' if dry_run else 'written; `sluice edit undo` undoes it'}")
    return findings

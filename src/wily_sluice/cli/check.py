"""`sluice check`."""

from pathlib import Path

import click

from wily_sluice.cli.options import CLEAN, ERRORS, WARNINGS, json_option, plan_option
from wily_sluice.outside.files import examine
from wily_sluice.views.text.console import console, print_json
from wily_sluice.views.text.findings import count_findings, findings_data, print_findings


@click.command()
@plan_option
@click.option("--strict", is_flag=True, help="End with status 1 when there are warnings.")
@json_option
@click.pass_context
def check(context: click.Context, plan_file: Path, strict: bool, as_json: bool) -> None:
    """Say what is wrong with a plan, before any packet sees it.

    Every error and warning is told in one run, with its file, its line, and what would be right. Ends with status 0
    when the plan can be used, 1 when there are warnings and --strict is given, 2 when there are errors.

    \b
    Examples:
      sluice check
      sluice check --plan surgery.yaml --strict
    """
    _, findings = examine(plan_file)
    if as_json:
        print_json({"file": str(plan_file), "findings": findings_data(findings)})
    else:
        print_findings(console(), findings)
        click.echo(f"{plan_file}: {count_findings(findings)}")
    severities = {finding.severity for finding in findings}
    context.exit(ERRORS if "error" in severities else WARNINGS if strict and severities else CLEAN)

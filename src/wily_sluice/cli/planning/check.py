"""`sluice check`."""

from pathlib import Path

import click

from wily_sluice.cli.options import CLEAN, ERRORS, WARNINGS, json_option, plan_from
from wily_sluice.outside.files import STANDARD_INPUT, examine


@click.command()
@plan_from()
@click.option("--strict", is_flag=True, help="Exit with status 1 if there are warnings.")
@json_option
@click.pass_context
def check(context: click.Context, plan_file: Path, strict: bool, as_json: bool) -> None:
    """Find what is wrong or risky in a plan.

    Reports every error and warning at once, each with file, line and remedy. Exits with status 0 if the plan can be
    used, 1 if there are warnings and --strict is given, 2 if there are errors.

    \b
    Examples:
      sluice check
      sluice check surgery.yaml --strict
      sluice check - < surgery.yaml
    """
    _, findings = examine(plan_file)
    name = "standard input" if plan_file == STANDARD_INPUT else str(plan_file)
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
        click.echo(f"{name}: {count_findings(findings)}")
    severities = {finding.severity for finding in findings}
    context.exit(ERRORS if "error" in severities else WARNINGS if strict and severities else CLEAN)

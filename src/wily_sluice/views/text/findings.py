"""Findings in a file, one per line."""

from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from wily_sluice.plan.findings.finding import Finding
from wily_sluice.views.text.console import print_line

STYLES = {"error": "bold red", "warning": "yellow", "note": "cyan"}


def print_findings(console: Console, findings: Sequence[Finding]) -> None:
    """One finding a line: where, what, and behind an arrow what would be right."""
    for finding in findings:
        where = finding.file if finding.line is None else f"{finding.file}:{finding.line}"
        text = Text(f"{where}: ", style="bold")
        text.append(f"{finding.severity}: ", style=STYLES[finding.severity])
        text.append(f"{finding.place}: " if finding.place else "", style="not bold cyan")
        text.append(finding.message, style="not bold")
        if finding.remedy:
            text.append(f" → {finding.remedy}", style="not bold green")
        text.append(f" [{finding.code}]", style="not bold dim")
        print_line(console, text)


def count_findings(findings: Sequence[Finding]) -> str:
    """`2 errors, 1 warning`."""
    parts = []
    for severity in ("error", "warning", "note"):
        number = sum(finding.severity == severity for finding in findings)
        if number:
            parts.append(f"{number} {severity}{'s' * (number > 1)}")
    return ", ".join(parts) or "no errors, no warnings"


def findings_data(findings: Sequence[Finding]) -> list[dict[str, Any]]:
    """The findings for JSON."""
    keys = ("severity", "file", "line", "key", "message", "remedy", "code")
    return [{**{key: getattr(one, key) for key in keys}, "fixable": bool(one.fix)} for one in findings]

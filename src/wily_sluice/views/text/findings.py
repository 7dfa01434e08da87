"""Findings in a file, and problems of a machine."""

from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from wily_sluice.doctor.check import Change
from wily_sluice.doctor.examine import Complaint
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


def print_skipped(console: Console, skipped: Sequence[tuple[Finding, str]]) -> None:
    """The fixes that were not made, each with the reason."""
    for finding, why in skipped:
        text = Text("not fixed: ", "bold").append(f"{finding.place}: ", "not bold cyan")
        print_line(console, text.append(f"{why} [{finding.code}]", "not bold"))


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
    return [{**{key: getattr(finding, key) for key in keys}, "fixable": bool(finding.fix)} for finding in findings]


KEEP = "/etc/sysctl.d/90-sluice.conf"


def print_complaints(screen: Console, complaints: Sequence[Complaint]) -> None:
    """One per line: subject, problem and remedy; then the story of each kind, once."""
    shown: set[str] = set()
    for complaint in complaints:
        ailment, problem = complaint.ailment, complaint.found
        text = Text(f"{problem.where}: ", style="bold")
        text.append(f"{ailment.severity}: ", style=STYLES[ailment.severity])
        text.append(problem.message, style="not bold")
        text.append(f" → {problem.remedy}", style="not bold green")
        text.append(f" [{ailment.code}]", style="not bold dim")
        print_line(screen, text)
        if ailment.code not in shown:
            shown.add(ailment.code)
            print_line(screen, Text(f"  {ailment.story}", "dim"))


def print_changes(screen: Console, changes: Sequence[Change], undone: bool = False) -> None:
    """The changes, and how to make them permanent."""
    for change in changes:
        print_line(screen, Text(f"{'restored' if undone else 'changed'} {change.path} to {change.value}", "green"))
    lasting = [f"{change.setting} = {change.value}" for change in changes if change.setting]
    if lasting and not undone:
        print_line(screen, f"These changes last until a reboot. To keep them, add to {KEEP}:")
        for line in lasting:
            print_line(screen, f"  {line}")
        print_line(screen, "`sluice doctor --undo` undoes this.")


def complaints_data(complaints: Sequence[Complaint]) -> list[dict[str, Any]]:
    """For JSON."""
    return [
        {
            "code": complaint.ailment.code,
            "severity": complaint.ailment.severity,
            "where": complaint.found.where,
            "message": complaint.found.message,
            "remedy": complaint.found.remedy,
            "changes": changes_data(complaint.found.changes),
        }
        for complaint in complaints
    ]


def changes_data(changes: Sequence[Change]) -> list[dict[str, str]]:
    """Likewise."""
    return [{"path": change.path, "value": change.value} for change in changes]

"""Problems of a machine, and changes made."""

from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from wily_sluice.doctor.check import Change
from wily_sluice.doctor.examine import Complaint
from wily_sluice.views.text.console import print_line
from wily_sluice.views.text.findings import STYLES

KEEP = "/etc/sysctl.d/90-sluice.conf"


def print_complaints(screen: Console, complaints: Sequence[Complaint]) -> None:
    """One per line: subject, problem and remedy; then the story of each kind, once."""
    told: set[str] = set()
    for one in complaints:
        ailment, found = one.ailment, one.found
        text = Text(f"{found.where}: ", style="bold")
        text.append(f"{ailment.severity}: ", style=STYLES[ailment.severity])
        text.append(found.message, style="not bold")
        text.append(f" → {found.remedy}", style="not bold green")
        text.append(f" [{ailment.code}]", style="not bold dim")
        print_line(screen, text)
        if ailment.code not in told:
            told.add(ailment.code)
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
            "code": one.ailment.code,
            "severity": one.ailment.severity,
            "where": one.found.where,
            "message": one.found.message,
            "remedy": one.found.remedy,
            "changes": changes_data(one.found.changes),
        }
        for one in complaints
    ]


def changes_data(changes: Sequence[Change]) -> list[dict[str, str]]:
    """Likewise."""
    return [{"path": change.path, "value": change.value} for change in changes]

"""Changes between plans in words, plans as a diff, and the history as a table."""

from collections.abc import Sequence
from dataclasses import asdict
from difflib import unified_diff
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.plan.compare import Change
from wily_sluice.plan.file.bundle import Bundle
from wily_sluice.views.text.columns import Column, table_of
from wily_sluice.views.text.console import print_line

STYLES = {"new": "green", "gone": "red", "changed": "yellow", "moved": "cyan"}
STATES = {"kept": "green", "trial": "yellow", "undone": "dim", "refused": "red"}


def print_changes(console: Console, changes: Sequence[Change]) -> None:
    """One change a line, then who is concerned."""
    if not changes:
        print_line(console, "no change in effect")
        return
    for change in changes:
        line = Text(f"{change.how:<8}", STYLES[change.how])
        line.append(f"{change.part} ", "default").append(change.name, "bold cyan")
        line.append(f": {change.what}" if change.what else "", "default")
        print_line(console, line)
    whom = dict.fromkeys(word for change in changes for word in change.whom)
    if "everybody" in whom:
        print_line(console, "affects everybody")
    elif whom:
        print_line(console, f"affects {', '.join(whom)}")


def changes_data(changes: Sequence[Change]) -> list[dict[str, Any]]:
    """For JSON."""
    return [asdict(change) for change in changes]


def diff_lines(before: Bundle, after: Bundle, names: tuple[str, str]) -> list[str]:
    """The plan file as a unified diff; of the files that it names, which differ."""
    old, new = (bundle.plan.decode("utf-8", "replace").removesuffix("\n").split("\n") for bundle in (before, after))
    lines = list(unified_diff(old, new, *names, lineterm=""))
    for name in sorted({*before.files, *after.files}):
        was, now = before.files.get(name), after.files.get(name)
        if was != now:
            lines.append(f"file {name} {'is new' if was is None else 'is removed' if now is None else 'differs'}")
    return lines


def edit_lines(before: str, after: str) -> list[str]:
    """The change of a file by an edit, as a unified diff without its heading."""
    return list(
        unified_diff(before.removesuffix("\n").split("\n"), after.removesuffix("\n").split("\n"), lineterm="", n=1)
    )[2:]


def print_diff(console: Console, lines: Sequence[str]) -> None:
    """With colour, where there is one."""
    for line in lines:
        heading = line.startswith(("---", "+++"))
        style = "bold" if heading else {"+": "green", "-": "red", "@": "cyan"}.get(line[:1], "")
        console.print(Text(line, style), soft_wrap=True)


def history_table(history: dict[str, Any]) -> Table:
    """The revisions, the newest first."""

    def sign(revision: dict[str, Any]) -> str:
        number = revision["revision"]
        return "▶" if number == history.get("revision") else "•" if number == history["kept"] else ""

    columns: tuple[Column[dict[str, Any]], ...] = (
        Column(sign, None, ""),
        Column(lambda revision: revision["revision"], None, "revision", right=True),
        Column(lambda revision: revision["at"].replace("T", " ").rstrip("Z"), None, "at"),
        Column(lambda revision: revision["who"], None, "who"),
        Column(lambda revision: Text(revision["state"], STATES[revision["state"]]), None, "state"),
        Column(lambda revision: revision["digest"][:12], None, "digest"),
        Column(lambda revision: "; ".join(filter(None, (revision["note"], revision["why"]))), None, "note", folds=True),
    )
    return table_of(columns, history["revisions"])

"""A problem in a user's file: its place, a description and a remedy."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal, TypeAlias

from wily_sluice.errors import SluiceError
from wily_sluice.plan.edit.operations import Operation
from wily_sluice.plan.file.yaml_text import Location

Severity: TypeAlias = Literal["error", "warning", "note"]


@dataclass(frozen=True, slots=True)
class Finding:
    """`line` counts from 1, or is None for the whole file; `key` is a path such as `uplinks.fibre.up`."""

    severity: Severity
    file: str
    line: int | None
    key: str
    message: str
    remedy: str = ""
    code: str = ""  # of its kind
    fix: tuple[Operation, ...] = field(default=(), repr=False, compare=False)  # what fixes it, where that is safe
    name: str = field(default="", compare=False)  # the place in a person's words, such as `rule Handsets, queue`

    @property
    def place(self) -> str:
        """Where it is, for a message."""
        return self.name or self.key

    def __str__(self) -> str:
        where = f"{self.file}:{self.line}" if self.line is not None else self.file
        what = f"{self.place}: {self.message}" if self.place else self.message
        return (
            f"{where}: {self.severity}: {what}"
            + (f" → {self.remedy}" if self.remedy else "")
            + (f" [{self.code}]" if self.code else "")
        )


class FileError(SluiceError):
    """A file cannot be used. Carries all that is wrong with it."""

    def __init__(self, findings: Iterable[Finding]) -> None:
        self.findings = sorted(findings, key=lambda finding: (finding.line or 0, finding.key))
        super().__init__("\n".join(str(finding) for finding in self.findings))


def queue_location(tree: str, path: str) -> Location:
    """The place of a queue of a tree in the file; the tree itself for the empty path."""
    parts = path.split("/") if path else []
    return ("trees", tree, *(word for name in parts for word in ("queues", name)))

"""Fixes what findings say can be fixed: one after another, since each may move or remove the next."""

from collections.abc import Callable

from wily_sluice.plan.edit.operations import EditError
from wily_sluice.plan.edit.text import apply
from wily_sluice.plan.file.source import Source
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.read import examine

MOST_FIXES = 500


def fixed(content: bytes, source: Callable[[bytes], Source]) -> tuple[bytes, list[Finding]]:
    """A plan file with all of that fixed, and the findings that are left. `source` makes a file of a content."""
    refused: set[tuple[str, str]] = set()
    for _ in range(MOST_FIXES):
        findings = examine(source(content))[1]
        finding = next((each for each in findings if each.fix and (each.code, each.key) not in refused), None)
        if finding is None:
            break
        try:
            content = apply(content.decode(), finding.fix).encode()
        except EditError:  # written in a way that cannot be edited in place
            refused.add((finding.code, finding.key))
    return content, findings

"""Checks a plan: looks for every kind of finding."""

from wily_sluice.plan.file.document import Reading
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.findings.kind import Checked
from wily_sluice.plan.findings.registry import KINDS
from wily_sluice.plan.model import Plan


def check(plan: Plan, reading: Reading[PlanEntry]) -> list[Finding]:
    """All findings, errors and warnings, beyond those of reading the file."""
    checked = Checked(plan, reading)
    found: list[Finding] = []
    for kind in KINDS:
        if kind.whole and reading.cut:
            continue
        places = set()
        for told in kind.find(checked):
            if not (kind.once and told.location in places):
                found.append(reading.document.finding(kind.severity, *told, kind.code))
            places.add(told.location)
    return found

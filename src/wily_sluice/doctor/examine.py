"""All checks, with a plan and the facts."""

from dataclasses import dataclass
from typing import Final

from wily_sluice.doctor import links, machine, routing
from wily_sluice.doctor.check import Check, Facts, Found
from wily_sluice.plan.model import Plan

CHECKS: Final = (*links.CHECKS, *routing.CHECKS, *machine.CHECKS)


@dataclass(frozen=True, slots=True)
class Complaint:
    """A problem that was found, and its place."""

    ailment: Check
    found: Found


def examine(plan: Plan, facts: Facts) -> list[Complaint]:
    """All problems, errors first."""
    complaints = [Complaint(ailment, problem) for ailment in CHECKS for problem in ailment.find(plan, facts)]
    return sorted(complaints, key=lambda complaint: complaint.ailment.severity != "error")

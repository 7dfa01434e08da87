"""All checks, with a plan and the facts."""

from dataclasses import dataclass
from typing import Final

from wily_sluice.doctor.check import Check, Found
from wily_sluice.doctor.checks import links, machine, routing
from wily_sluice.doctor.facts import Facts
from wily_sluice.plan.model import Plan

CHECKS: Final = (*links.CHECKS, *routing.CHECKS, *machine.CHECKS)


@dataclass(frozen=True, slots=True)
class Complaint:
    """A problem that was found, and its place."""

    ailment: Check
    found: Found


def examine(plan: Plan, facts: Facts) -> list[Complaint]:
    """All problems, errors first."""
    found = [Complaint(ailment, one) for ailment in CHECKS for one in ailment.find(plan, facts)]
    return sorted(found, key=lambda one: one.ailment.severity != "error")

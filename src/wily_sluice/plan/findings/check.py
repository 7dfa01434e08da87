"""Checks a plan: looks for every kind of finding."""

from wily_sluice.plan.file.document import Reading
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.file.suggestion import suggestion
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.findings.kind import Checked
from wily_sluice.plan.findings.registry import CODES, KINDS
from wily_sluice.plan.model import Plan


def check(plan: Plan, reading: Reading[PlanEntry], warnings: bool = True) -> list[Finding]:
    """All findings beyond those of reading the file; without `warnings`, errors alone."""
    checked = Checked(plan, reading)
    found: list[Finding] = []
    for kind in KINDS:
        if (kind.whole and reading.cut) or not (warnings or kind.severity == "error"):
            continue
        places = set()
        for told in kind.find(checked):
            if not (kind.once and told.location in places) and not (
                kind.severity != "error" and reading.document.allows(kind.code, told.location)
            ):
                found.append(reading.document.finding(kind.severity, *told[:3], kind.code, told.fix))
            places.add(told.location)
    return found


def check_allowances(reading: Reading[PlanEntry], findings: list[Finding]) -> list[Finding]:
    """Problems of the comments that allow findings. Call it after all other checks."""
    file = reading.document.file
    found = []
    for one in reading.document.allowances:

        def tell(message: str, remedy: str, line: int = one.line) -> Finding:
            return Finding("warning", file, line, "", message, remedy, "allowance")

        if one.code not in CODES:
            known = [code for code in CODES if CODES[code].severity != "error"]
            remedy = (
                suggestion(one.code, known, "`sluice explain` lists them") if one.code else "write a finding's code"
            )
            found.append(tell(f"there is no finding “{one.code}” to allow" if one.code else "allows nothing", remedy))
        elif CODES[one.code].severity == "error":
            found.append(tell(f"{one.code} is an error, which cannot be allowed", "fix it, and remove the comment"))
        elif not one.reason:
            found.append(tell(f"allows {one.code} without saying why", f"write `# sluice: allow {one.code} REASON`"))
        elif not one.used and not any(finding.severity == "error" for finding in findings):
            found.append(tell(f"allows {one.code}, which is not found here", "remove the comment"))
    return found

"""Fixes of findings, and the guard before them.

A fix is made only if the plan then does the same as before (`plan.effect`) and has no new error: queues, limiters,
routes and mappings stay as they are, and each conversation gets the same answer from the rules. What improves a plan
but changes it needs a person's consent.
"""

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from wily_sluice.plan import effect
from wily_sluice.plan.compare import compare
from wily_sluice.plan.edit.operations import EditError
from wily_sluice.plan.edit.text import apply
from wily_sluice.plan.file.document import read_document
from wily_sluice.plan.file.source import Source
from wily_sluice.plan.findings.finding import FileError, Finding
from wily_sluice.plan.model import Plan
from wily_sluice.plan.reach.covered import rules_out_of_reach
from wily_sluice.plan.reach.regions import TooInvolvedError
from wily_sluice.plan.reach.space import Space
from wily_sluice.plan.read import read_with_errors

MOST_FIXES = 500


@dataclass(slots=True)
class Fixed:
    """A plan file after fixes, the findings that are left, and the fixes that were not made, each with the reason."""

    content: bytes
    findings: list[Finding] = field(default_factory=list)
    skipped: list[tuple[Finding, str]] = field(default_factory=list)


def fixed(content: bytes, source: Callable[[bytes], Source], improve: bool = False) -> Fixed:
    """A plan file with all fixes that leave its effect as it is; with `improve`, also with those that change it.

    `source` makes a file of a content.
    """
    skipped: dict[tuple[str, str], tuple[Finding, str]] = {}
    plan, findings = _read(source(content))
    for _ in range(MOST_FIXES):
        finding = next((f for f in findings if f.fix and (f.code, f.key) not in skipped), None)
        if finding is None:
            break
        try:
            changed = apply(content.decode(), finding.fix).encode()
            after, findings_after = _read(source(changed))
            why = _refusal(plan, findings, after, findings_after, improve)
        except EditError as error:  # written in a way that cannot be edited in place
            why = str(error)
        if why:
            skipped[finding.code, finding.key] = finding, why
        else:
            content, plan, findings = changed, after, findings_after
    return Fixed(content, findings, list(skipped.values()))


def _read(source: Source) -> tuple[Plan | None, list[Finding]]:
    try:
        return read_with_errors(read_document(source, "plan"))
    except FileError as error:
        return None, error.findings


def new_findings(before: list[Finding], after: list[Finding]) -> list[Finding]:
    """The findings that a change brings. One with the words of an old one is the old one, unless there are more."""
    old = Counter((finding.code, finding.message) for finding in before)
    places = {(finding.code, finding.key, finding.message) for finding in before}
    new = []
    for finding in sorted(after, key=lambda each: (each.code, each.key, each.message) not in places):
        old[finding.code, finding.message] -= 1
        if old[finding.code, finding.message] < 0:
            new.append(finding)
    return sorted(new, key=lambda finding: (finding.line or 0, finding.key))


def _refusal(
    before: Plan | None, found: list[Finding], after: Plan | None, found_after: list[Finding], improve: bool
) -> str:
    """Why a fix must not be made; empty if it may."""
    if errors := [finding for finding in new_findings(found, found_after) if finding.severity == "error"]:
        return f"then {errors[0].place}: {errors[0].message}"
    if improve:
        return ""
    if before is None or after is None:
        return "the plan cannot be read as a whole"
    if same_effect(before, after):
        return ""
    if any(finding.severity == "error" for finding in (*found, *found_after)):
        return CHANGES
    change = next(iter(compare(before, after)), None)
    if change is None:
        return CHANGES
    verb = {"gone": "remove", "new": "add", "moved": "move"}.get(change.how, "change")
    return f"it would {verb} {change.part} {change.name}" + (f" ({change.what})" if change.what else "")


CHANGES = "it would change the effect of the plan"


def same_effect(before: Plan, after: Plan) -> bool:
    """Whether the gate does the same by two plans; its rules may be others if they give the same answers."""
    if effect.effect(before, rules=False) != effect.effect(after, rules=False):
        return False
    old, new = (effect.in_order(plan, plan.sorting) for plan in (before, after))
    begin = 0
    while begin < min(len(old), len(new)) and old[begin] == new[begin]:
        begin += 1
    end = 0
    while end < min(len(old), len(new)) - begin and old[-1 - end] == new[-1 - end]:
        end += 1
    mine, others = range(begin, len(old) - end), range(begin, len(new) - end)
    if not others:
        unreached = {rule.index for rule, _ in rules_out_of_reach(before)[0]}
        return {before.sorting[index].index for index in mine} <= unreached
    answers = {(values["leads"], values["mark"]) for _, values in (*(old[n] for n in mine), *(new[n] for n in others))}
    if len(answers) > 1:
        return _reached(before) == _reached(after)
    rules = [before.sorting[index] for index in mine], [after.sorting[index] for index in others]
    space = Space(before, [*rules[0], *rules[1]])
    try:
        first, second = ([box for rule in some for box in space.reach(rule.terms)] for some in rules)
        return not space.left(first, second) and not space.left(second, first)
    except TooInvolvedError:
        return False


def _reached(plan: Plan) -> list[Any]:
    """The rules that some conversation reaches, in order."""
    unreached = {rule.index for rule, _ in rules_out_of_reach(plan)[0]}
    ordered = zip(plan.sorting, effect.in_order(plan, plan.sorting), strict=True)
    return [part for rule, part in ordered if rule.index not in unreached]

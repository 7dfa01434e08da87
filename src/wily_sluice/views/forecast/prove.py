"""Promises and what came of their tests, as a table, as data, and as JUnit XML."""

from collections import Counter
from collections.abc import Sequence
from typing import Any
from xml.etree import ElementTree

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.forecast.prove.proof import Proof, Verdict
from wily_sluice.plan.model import Plan
from wily_sluice.views.text.console import fits, print_line

STYLES = {"kept": "green", "broken": "bold red", "proves nothing": "yellow", "not tried": "dim"}
ORDER: tuple[Verdict, ...] = ("kept", "broken", "proves nothing", "not tried")


def print_proofs(screen: Console, plan: Plan, proofs: Sequence[Proof]) -> None:
    """A row for each; what a verdict rests on below it."""
    rows = [(one, _line(plan, one)) for one in proofs]
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    for name in ("line", "promise", "", "where", "expected", "measured", "verdict"):
        table.add_column(name, no_wrap=True, justify="right" if name == "line" else "left")
    for one, line in rows:
        verdict = Text(one.verdict, STYLES[one.verdict])
        table.add_row(line, one.kind, one.name, one.where, one.expected, one.measured, verdict)
    if fits(screen, table):
        screen.print(table)
    else:
        for one, line in rows:
            text = Text(f"{one.verdict:<15}", STYLES[one.verdict])
            text.append(f"line {line}: {one.kind} {one.name}, {one.where}: {one.expected}: {one.measured}", "default")
            print_line(screen, text)
    noted = [one for one in proofs if one.why]
    if noted:
        screen.print()
    for one in noted:
        print_line(screen, f"{one.kind} {one.name}, {one.where}: {one.verdict}: {one.why}")
    screen.print()
    counts = Counter(one.verdict for one in proofs)
    words = {verdict: verdict.replace("proves", "prove") if counts[verdict] > 1 else verdict for verdict in ORDER}
    print_line(screen, ", ".join(f"{counts[verdict]} {words[verdict]}" for verdict in ORDER if counts[verdict]))


def _line(plan: Plan, proof: Proof) -> str:
    return str(plan.document.line(proof.location) or "")


def proofs_data(plan: Plan, proofs: Sequence[Proof]) -> dict[str, Any]:
    """For JSON."""
    return {
        "site": plan.site,
        "promises": [
            {
                "promise": one.kind,
                "name": one.name,
                "where": one.where,
                "line": plan.document.line(one.location),
                "expected": one.expected,
                "measured": one.measured,
                "verdict": one.verdict,
                "why": one.why,
            }
            for one in proofs
        ],
    }


def junit_xml(plan: Plan, proofs: Sequence[Proof]) -> bytes:
    """A test case for each promise; one that proves nothing, or was not tried, is skipped with the reason."""
    broken = sum(one.verdict == "broken" for one in proofs)
    skipped = sum(one.verdict in ("proves nothing", "not tried") for one in proofs)
    counts = {"tests": str(len(proofs)), "failures": str(broken), "skipped": str(skipped), "errors": "0"}
    suite = ElementTree.Element("testsuite", {"name": plan.site, **counts})
    for one in proofs:
        place = {"file": plan.document.file, "line": _line(plan, one)}
        case = ElementTree.SubElement(
            suite, "testcase", {"classname": one.kind, "name": f"{one.name}, {one.where}", **place}
        )
        if one.verdict == "broken":
            message = f"expected {one.expected}, measured {one.measured}"
            ElementTree.SubElement(case, "failure", {"message": message})
        elif one.verdict != "kept":
            ElementTree.SubElement(case, "skipped", {"message": f"{one.verdict}: {one.why}"})
    ElementTree.indent(suite)
    text: str = ElementTree.tostring(suite, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{text}\n'.encode()

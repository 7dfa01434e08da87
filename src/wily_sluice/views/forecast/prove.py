"""Promises and test results, as a table, as data, and as JUnit XML."""

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Any
from xml.etree import ElementTree

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.forecast.prove.proof import Proof, Verdict, figure
from wily_sluice.forecast.prove.setting import FULL
from wily_sluice.plan.model import Plan
from wily_sluice.units import format_byte_rate
from wily_sluice.views.text.console import fits, print_line

DATA = FULL - 40  # bytes of data in a full packet of TCP over IPv4
STYLES = {"kept": "green", "broken": "bold red", "proves nothing": "yellow", "not tried": "dim"}
FIRST: tuple[Verdict, ...] = ("broken", "not tried", "proves nothing", "kept")
ORDER: tuple[Verdict, ...] = ("kept", "broken", "proves nothing", "not tried")


def print_proofs(screen: Console, plan: Plan, proofs: Sequence[Proof]) -> None:
    """One row per promise, broken and open ones first, with the reason for each verdict below."""
    rows = [(one, _line(plan, one)) for one in sorted(proofs, key=lambda one: FIRST.index(one.verdict))]
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    for name in ("line", "promise", "", "where", "expected", "within", "measured", "verdict"):
        table.add_column(name, no_wrap=True, justify="right" if name == "line" else "left")
    for one, line in rows:
        verdict = Text(one.verdict, STYLES[one.verdict])
        table.add_row(line, one.kind, one.name, one.where, one.expected, one.tolerance, one.measured, verdict)
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
    for sentence in _data_shares(plan, proofs):
        print_line(screen, sentence)
    counts = Counter(one.verdict for one in proofs)
    words = {verdict: verdict.replace("proves", "prove") if counts[verdict] > 1 else verdict for verdict in ORDER}
    print_line(screen, ", ".join(f"{counts[verdict]} {words[verdict]}" for verdict in ORDER if counts[verdict]))


def _data_shares(plan: Plan, proofs: Sequence[Proof]) -> Iterator[str]:
    """The goodput of a rate, for each uplink with a measured rate."""
    for uplink in plan.uplinks:
        capped = [p for p in proofs if p.uplink == uplink.name and p.rate and p.kind in ("cap", "limiter")]
        if capped:
            cost, rate = uplink.framing.cost(FULL), capped[-1].rate or 0.0
            data = rate * DATA / cost
            yield (
                f"Rates are those of the line. Of each full packet on {uplink.name}, {cost:,} bytes, {FULL - DATA} are "
                f"IP and TCP headers and {cost - FULL} framing: {figure(rate)} carry {figure(data)} of data, or "
                f"{format_byte_rate(data)}."
            )


def _line(plan: Plan, proof: Proof) -> str:
    return str(plan.document.line(proof.location) or "")


def _data_rate(plan: Plan, proof: Proof) -> float | None:
    """TCP's goodput with full packets at a rate, in bit/s."""
    uplink = next((one for one in plan.uplinks if one.name == proof.uplink), None)
    if proof.rate is None or uplink is None:
        return None
    return proof.rate * DATA / uplink.framing.cost(FULL)


def proofs_data(plan: Plan, proofs: Sequence[Proof], world: str = "lab") -> dict[str, Any]:
    """For JSON. Rates are in bit/s, waits in seconds."""
    return {
        "site": plan.site,
        "tried": world,
        "promises": [
            {
                "promise": one.kind,
                "name": one.name,
                "where": one.where,
                "line": plan.document.line(one.location),
                "expected": one.expected,
                "within": one.tolerance,
                "measured": one.measured,
                "rate": one.rate,
                "data_rate": _data_rate(plan, one),
                "p95": one.p95 / 1e9 if one.p95 is not None else None,
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

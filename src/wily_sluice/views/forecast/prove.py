"""Promises and test results, as a table, as data, and as JUnit XML."""

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Any
from xml.etree import ElementTree

from rich.console import Console
from rich.text import Text

from wily_sluice.forecast.prove.proof import FULL, Proof, Verdict, figure
from wily_sluice.plan.model import Plan
from wily_sluice.units import format_byte_rate
from wily_sluice.views.text.columns import Column, records_of, table_of
from wily_sluice.views.text.console import fits, print_line

DATA = FULL - 40  # bytes of data in a full packet of TCP over IPv4
STYLES = {"kept": "green", "broken": "bold red", "proves nothing": "yellow", "not tried": "dim"}
FIRST: tuple[Verdict, ...] = ("broken", "not tried", "proves nothing", "kept")
ORDER: tuple[Verdict, ...] = ("kept", "broken", "proves nothing", "not tried")


def _columns(plan: Plan) -> tuple[Column[Proof], ...]:
    """Rates in bit/s, waits in seconds."""
    return (
        Column(lambda proof: _line(plan, proof), None, "line", right=True),
        Column(lambda proof: proof.kind, "promise", "promise"),
        Column(lambda proof: proof.name, "name", ""),
        Column(lambda proof: proof.where, "where", "where"),
        Column(lambda proof: plan.document.line(proof.location), "line"),
        Column(lambda proof: proof.expected, "expected", "expected"),
        Column(lambda proof: proof.tolerance, "within", "within"),
        Column(lambda proof: proof.measured, "measured", "measured"),
        Column(lambda proof: proof.rate, "rate"),
        Column(lambda proof: _data_rate(plan, proof), "data_rate"),
        Column(lambda proof: proof.p95 / 1e9 if proof.p95 is not None else None, "p95"),
        Column(lambda proof: proof.verdict, "verdict", "verdict", lambda p: Text(p.verdict, STYLES[p.verdict])),
        Column(lambda proof: proof.why, "why"),
        Column(lambda proof: "; ".join(proof.cases), "cases"),
    )


def print_proofs(screen: Console, plan: Plan, proofs: Sequence[Proof]) -> None:
    """One row per promise, broken and open ones first, with the reason for each verdict below."""
    rows = sorted(proofs, key=lambda proof: FIRST.index(proof.verdict))
    table = table_of(_columns(plan), rows)
    if fits(screen, table):
        screen.print(table)
    else:
        for proof in rows:
            text = Text(f"{proof.verdict:<15}", STYLES[proof.verdict])
            place = f"line {_line(plan, proof)}: {proof.kind} {proof.name}, {proof.where}"
            text.append(f"{place}: {proof.expected}: {proof.measured}", "default")
            print_line(screen, text)
    noted = [proof for proof in proofs if proof.why]
    if noted:
        screen.print()
    for proof in noted:
        print_line(screen, f"{proof.kind} {proof.name}, {proof.where}: {proof.verdict}: {proof.why}")
    screen.print()
    for sentence in _data_shares(plan, proofs):
        print_line(screen, sentence)
    counts = Counter(proof.verdict for proof in proofs)
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
    uplink = next((uplink for uplink in plan.uplinks if uplink.name == proof.uplink), None)
    if proof.rate is None or uplink is None:
        return None
    return proof.rate * DATA / uplink.framing.cost(FULL)


def proofs_data(plan: Plan, proofs: Sequence[Proof], world: str = "lab") -> dict[str, Any]:
    """For JSON. Rates are in bit/s, waits in seconds."""
    return {"site": plan.site, "tried": world, "promises": records_of(_columns(plan), proofs)}


def junit_xml(plan: Plan, proofs: Sequence[Proof]) -> bytes:
    """A test case for each promise; one that proves nothing, or was not tried, is skipped with the reason."""
    broken = sum(proof.verdict == "broken" for proof in proofs)
    skipped = sum(proof.verdict in ("proves nothing", "not tried") for proof in proofs)
    counts = {"tests": str(len(proofs)), "failures": str(broken), "skipped": str(skipped), "errors": "0"}
    suite = ElementTree.Element("testsuite", {"name": plan.site, **counts})
    for proof in proofs:
        place = {"file": plan.document.file, "line": _line(plan, proof)}
        case = ElementTree.SubElement(
            suite, "testcase", {"classname": proof.kind, "name": f"{proof.name}, {proof.where}", **place}
        )
        if proof.verdict == "broken":
            message = f"expected {proof.expected}, measured {proof.measured}"
            ElementTree.SubElement(case, "failure", {"message": message})
        elif proof.verdict != "kept":
            ElementTree.SubElement(case, "skipped", {"message": f"{proof.verdict}: {proof.why}"})
    ElementTree.indent(suite)
    text: str = ElementTree.tostring(suite, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{text}\n'.encode()

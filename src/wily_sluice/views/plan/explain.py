"""Explanations as text and as data: findings, terms, choices, rates, and a line of a plan."""

import re
from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.plan.explain.choices import CHOICES, Choice
from wily_sluice.plan.explain.glossary import BY_NAME, GLOSSARY, Term
from wily_sluice.plan.file.document import key_text
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.findings.kind import Kind, shown
from wily_sluice.plan.findings.registry import CODES
from wily_sluice.plan.model import Plan
from wily_sluice.views.plan.limiters import limiter_sentences
from wily_sluice.views.text.console import fits, print_line
from wily_sluice.views.text.findings import STYLES, findings_data, print_findings
from wily_sluice.views.text.sentences import (
    grant_sentence,
    network_sentence,
    route_sentence,
    rule_sentence,
    tunnel_sentence,
    uplink_sentence,
)

MOST_LINES = 12  # of a plan, as an example


def print_finding_kind(screen: Console, kind: Kind, findings: Sequence[Finding]) -> None:
    """The story of a finding, an example with and without it, and its places in the user's plan."""
    heading = Text(f"{kind.code}  ", "bold")
    heading.append(kind.severity, STYLES[kind.severity])
    print_line(screen, heading)
    _paragraph(screen, kind.story)
    _code(screen, "This has it:", shown(kind.has))
    _code(screen, "This does not:", shown(kind.lacks))
    if kind.severity != "error" and kind.code != "allowance":
        print_line(screen, f"\nTo accept it, end the line with:  # sluice: allow {kind.code} REASON")
    if findings:
        screen.print()
        print_findings(screen, findings)


def _paragraph(screen: Console, text: str) -> None:
    screen.print()
    print_line(screen, " ".join(text.split()))


def _code(screen: Console, title: str, text: str) -> None:
    screen.print(f"\n{title}", style="dim")
    for line in text.splitlines():
        print_line(screen, f"    {line}")


def kind_data(kind: Kind, findings: Sequence[Finding]) -> dict[str, Any]:
    """For JSON."""
    return {
        "finding": kind.code,
        "severity": kind.severity,
        "story": " ".join(kind.story.split()),
        "has": shown(kind.has),
        "lacks": shown(kind.lacks),
        "found": findings_data(findings),
    }


def print_term(screen: Console, term: Term, plan: Plan | None) -> None:
    """The definition of a term, with examples from the plan."""
    heading = Text(term.name, "bold")
    heading.append(f"  also: {', '.join(term.also)}" if term.also else "", "not bold dim")
    print_line(screen, heading)
    _paragraph(screen, term.text)
    lines = term.example(plan) if plan is not None else []
    if lines:
        screen.print("\nIn your plan:", style="dim")
        for line in lines[:MOST_LINES]:
            print_line(screen, f"    {line}")
        if len(lines) > MOST_LINES:
            print_line(screen, f"    and {len(lines) - MOST_LINES} more")


def term_data(term: Term, plan: Plan | None) -> dict[str, Any]:
    """For JSON."""
    return {
        "term": term.name,
        "also": list(term.also),
        "text": term.text,
        "plan": term.example(plan) if plan is not None else [],
    }


def print_choice(screen: Console, choice: Choice, plan: Plan | None) -> None:
    """The options side by side, and what suits the plan."""
    print_line(screen, Text(f"{choice.name}: {choice.question}", "bold"))
    screen.print()
    columns = ("", "needs", "protects", "can starve")
    rows = [(option.name, option.needs, option.protects, option.starves) for option in choice.options]
    kept = [index for index in range(4) if any(row[index] != "–" for row in rows)]
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for index in kept:
        table.add_column(columns[index], no_wrap=index == 0, style="bold" if index == 0 else "")
    for row in rows:
        table.add_row(*(row[index] for index in kept))
    if fits(screen, table):
        screen.print(table)
    else:
        for row in rows:
            print_line(screen, "; ".join(f"{columns[i]} {row[i]}".strip() for i in kept if row[i] != "–"))
    if plan is not None:
        print_line(screen, f"\nFor your plan: {choice.advise(plan)}.")


def choice_data(choice: Choice, plan: Plan | None) -> dict[str, Any]:
    """For JSON."""
    options = [
        {"name": option.name, "needs": option.needs, "protects": option.protects, "starves": option.starves}
        for option in choice.options
    ]
    advice = choice.advise(plan) if plan is not None else ""
    return {"choice": choice.name, "question": choice.question, "options": options, "advice": advice}


def print_facts(screen: Console, facts: Sequence[tuple[str, str]]) -> None:
    """Facts about a rate."""
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False)
    table.add_column(style="dim")
    table.add_column()
    for what, much in facts:
        table.add_row(what, much)
    screen.print(table)


def line_lines(plan: Plan, number: int) -> list[str]:
    """What begins on a line of the plan, in sentences, and the terms that it uses. Empty where there is nothing."""
    begins = [location for location, line in plan.document.lines.items() if line == number]
    sentences = [sentence for location in begins if (sentence := _sentence(plan, location))]
    if begins and not sentences:
        sentences = [key_text(min(begins, key=len))]
    words = [part for location in begins for part in location if isinstance(part, str)]
    text = plan.document.raw.decode("utf-8-sig").split("\n")[number - 1 : number]
    words += re.findall(r"[\w-]+", text[0].partition("#")[0]) if text else []
    terms = {BY_NAME[word].name: BY_NAME[word] for word in words if word in BY_NAME} if begins else {}
    return [*sentences, *(f"{term.name}: {term.text}" for term in terms.values())]


def _sentence(plan: Plan, location: Location) -> str:
    """What stands at the first two or three words of a place, if that is a part of the plan as a whole."""
    section, *rest = location
    if len(rest) != 1:
        return ""
    if section == "rules" and isinstance(rest[0], int):
        return next((f"{r.name}: {rule_sentence(r)}" for r in plan.rules if r.index == rest[0]), "")
    if section == "limiters":
        return next(
            (
                f"{limiter.name}: {limiter_sentences(plan, limiter)}"
                for limiter in plan.limiters
                if limiter.name == rest[0]
            ),
            "",
        )
    if section == "uplinks":
        return next((f"{u.name}: {uplink_sentence(u)}" for u in plan.uplinks if u.name == rest[0]), "")
    if section == "routes":
        return next((f"{r.name}: {route_sentence(r)}" for r in plan.routes if r.index == rest[0]), "")
    if section == "mappings":
        return next((f"{grant.name}: {grant_sentence(grant)}" for grant in plan.grants if grant.index == rest[0]), "")
    if section == "tunnels":
        return next((f"{t.name}: {tunnel_sentence(t)}" for t in plan.tunnels if t.name == rest[0]), "")
    if section == "networks":
        return next((f"{n.name}: {network_sentence(n)}" for n in plan.networks if n.name == rest[0]), "")
    return ""


def print_all(screen: Console) -> None:
    """All that can be explained."""
    print_line(screen, Text("Findings", "bold"))
    for severity in ("error", "warning", "note"):
        print_line(screen, f"  {severity}s: " + ", ".join(code for code in CODES if CODES[code].severity == severity))
    print_line(screen, Text("\nTerms", "bold"))
    print_line(screen, "  " + ", ".join(term.name for term in GLOSSARY))
    print_line(screen, Text("\nChoices", "bold"))
    print_line(screen, "  " + ", ".join(CHOICES) + ": sluice explain choice NAME")
    print_line(
        screen, "\nAlso a rate, such as `sluice explain 24Mb/s`, and a line of a plan: `sluice explain sluice.yaml:12`."
    )

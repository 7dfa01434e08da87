"""Makes docs/findings.md, the list of all findings: `python -m tools.make_findings_page`. A test keeps it true."""

from pathlib import Path

from wily_sluice.plan.findings.registry import CODES

PAGE = Path(__file__).parents[1] / "docs" / "findings.md"
HEAD = """\
# Findings

All findings of `sluice check`. Each finding has a code, its line, a sentence with your plan's figures, and a remedy.
`sluice explain CODE` explains it with an example.

- An **error** means that the plan cannot be used.
- A **warning** is most likely a mistake. `--strict` exits with status 1 if there are any.
- A **note** is information.

To accept a warning or a note, add a comment with your reason at the end of the line, or on the line above:

    headroom: 1%    # sluice: allow little-headroom the modem has no queue of its own

`sluice check --fix` fixes findings with ✎ where the plan then does the same as before; `sluice check --improve` also those
with ✎?, since the plan does something else afterwards: it shows what, and asks.
"""
FIXED = {
    "cap-above-parent", "guarantee-below-strict", "member-twice", "priority-below-curve", "rule-repeated",
    "second-burst-unused",
}  # fmt: skip
IMPROVED = {"burst-below-packet", "burst-below-window", "cap-without-effect", "limiter-redundant", "mapped-remote"}


def page() -> str:
    """The whole page."""
    parts = [HEAD]
    for severity in ("error", "warning", "note"):
        parts.append(f"\n## {severity.capitalize()}s\n\n| code | |\n|---|---|\n")
        for kind in CODES.values():
            if kind.severity == severity:
                mark = " ✎" if kind.code in FIXED else " ✎?" if kind.code in IMPROVED else ""
                parts.append(f"| `{kind.code}`{mark} | {' '.join(kind.story.split())} |\n")
    return "".join(parts)


if __name__ == "__main__":
    PAGE.write_text(page())

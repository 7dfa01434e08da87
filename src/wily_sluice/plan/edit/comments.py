"""Comments that a first plan has at its figures: when a figure changes, so does its comment."""

import re
from collections.abc import Callable
from typing import Final

from wily_sluice.plan.edit.text import YamlText
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.start.write import CALL
from wily_sluice.units import DIRECTIONS, Direction, format_rate

RATE: Final = r"[\d.,]+ [kMG]?bit/s"
USED: Final = re.compile(rf"(#.*; ){RATE}( is usable)")
UNMEASURED: Final = re.compile(r"# [^;]*: measure it;")
PROMISED: Final = re.compile(rf"at least {RATE} down and {RATE} up(, \d+ calls?)?")


def refreshed(text: YamlText, plan: Plan, measured: str = "") -> str:
    """The text with these comments as they would be written now. `measured` is an uplink that was measured just now."""
    if not USED.search(text.text) and not PROMISED.search(text.text):
        return text.text
    lines = text.text.split("\n")

    def at(location: Location) -> int | None:
        line = text.lines.get(location)
        return line - 1 if line is not None and line <= len(lines) else None

    for uplink in plan.uplinks:
        for way in DIRECTIONS:
            number = at(("uplinks", uplink.name, way))
            if number is None:
                continue
            used = format_rate(uplink.usable(way))
            lines[number] = USED.sub(rf"\g<1>{used}\g<2>", lines[number])
            if uplink.name == measured:
                lines[number] = UNMEASURED.sub("# measured;", lines[number])
    if plan.uplinks:
        _promises(plan, lines, at)
    return "\n".join(lines)


def _promises(plan: Plan, lines: list[str], at: Callable[[Location], int | None]) -> None:
    """Those of queues, in the tree of the first uplink."""
    uplink = plan.uplinks[0]
    guarantees: dict[Direction, dict[str, int]] = {
        way: {spec.path: spec.guarantee for spec in resolve(plan, uplink, way).walk()} for way in DIRECTIONS
    }
    for way in DIRECTIONS:
        tree = plan.tree(uplink, way)
        for queue in tree.walk():
            location = ("trees", tree.name, *(part for name in queue.path.split("/") for part in ("queues", name)))
            number = at(location)
            if number is not None and all(queue.path in guarantees[way] for way in DIRECTIONS):
                rates = " and ".join(
                    f"{format_rate(float(f'{guarantees[way][queue.path]:.3g}'))} {way}" for way in ("down", "up")
                )
                calls = min(guarantees[way][queue.path] for way in DIRECTIONS) // CALL
                lines[number] = PROMISED.sub(
                    lambda match, rates=rates, calls=calls: (  # type: ignore[misc]  # bound now, not when it is called
                        f"at least {rates}" + (f", {calls} call{'s' * (calls != 1)}" if match[1] else "")
                    ),
                    lines[number],
                )

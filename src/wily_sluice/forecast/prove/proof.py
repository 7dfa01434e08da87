"""What came of a test of a promise."""

from dataclasses import dataclass
from typing import Literal, TypeAlias

from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.units import format_rate

Verdict: TypeAlias = Literal["kept", "broken", "proves nothing", "not tried"]
TOLERANCE = 0.03  # of a rate
UNTRIED = "no conversation was found that goes there"


@dataclass(frozen=True, slots=True)
class Proof:
    """A promise of the plan, where it is made, and what was measured.

    `kind` is what was promised: guarantee, cap, limiter, delay, rule, default, schedule. `expected` and `measured` are
    for a person; `why` says what the verdict rests on. A test that passes even without what makes the promise proves
    nothing.
    """

    kind: str
    name: str
    where: str
    location: Location
    expected: str
    measured: str
    verdict: Verdict
    why: str = ""


def verdict_of(kept: bool, without: bool) -> tuple[Verdict, str]:
    """What a test and its control come to: `without` says whether it passes without what makes the promise, too."""
    if not kept:
        return "broken", ""
    return ("proves nothing", "without it, the test passes as well") if without else ("kept", "")


def figure(rate: float) -> str:
    """A rate with four figures."""
    return format_rate(float(f"{rate:.4g}"))

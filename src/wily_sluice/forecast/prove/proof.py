"""What came of a test of a promise."""

from dataclasses import dataclass
from typing import Literal, TypeAlias

from wily_sluice.plan.file.yaml_text import Location

Verdict: TypeAlias = Literal["kept", "broken", "proves nothing", "not tried"]
TOLERANCE = 0.03  # of a rate


@dataclass(frozen=True, slots=True)
class Proof:
    """A promise of the plan, where it is made, and what was measured.

    `kind` is what was promised: guarantee, cap, limiter, delay, rule, default. `expected` and `measured` are for a
    person; `why` says what the verdict rests on. A test that passes even without what makes the promise proves nothing.
    """

    kind: str
    name: str
    where: str
    location: Location
    expected: str
    measured: str
    verdict: Verdict
    why: str = ""

"""More different rates in rules than each packet can be compared with."""

from collections.abc import Iterator

from wily_sluice.engine.conversations.watch import MOST_RATES
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.units import Nanoseconds, Rate


def find(checked: Checked) -> Iterator[Told]:
    """Each rate beyond the limit."""
    met: set[tuple[Rate, Nanoseconds]] = set()
    for rule, terms in checked.asked:
        if terms.rate is not None and terms.rate not in met:
            met.add(terms.rate)
            if len(met) > MOST_RATES:
                message = f"is the {len(met)}th different rate in rules; the limit is {MOST_RATES}"
                yield Told(("rules", rule.index, "rate"), message, "use one of the others")


KIND = Kind(
    "too-many-rates",
    "error",
    find,
    story="""\
Each rate that a rule asks for is measured for every conversation. To keep the work per packet small, a plan can have
only a few different ones.
""",
    has="""\
rules:
  - {rate: over 1 Mbit/s for 10 s, queue: calls}
  - {rate: over 2 Mbit/s for 10 s, queue: calls}
  - {rate: over 3 Mbit/s for 10 s, queue: calls}
  - {rate: over 4 Mbit/s for 10 s, queue: calls}
  - {rate: over 5 Mbit/s for 10 s, queue: calls}
  - {rate: over 6 Mbit/s for 10 s, queue: calls}
  - {rate: over 7 Mbit/s for 10 s, queue: calls}
  - {rate: over 8 Mbit/s for 10 s, queue: calls}
  - {rate: over 9 Mbit/s for 10 s, queue: calls}
""",
    lacks="""\
rules:
  - {rate: over 1 Mbit/s for 10 s, queue: calls}
  - {rate: over 2 Mbit/s for 10 s, queue: calls}
  - {rate: over 3 Mbit/s for 10 s, queue: calls}
  - {rate: over 4 Mbit/s for 10 s, queue: calls}
  - {rate: over 5 Mbit/s for 10 s, queue: calls}
  - {rate: over 6 Mbit/s for 10 s, queue: calls}
  - {rate: over 7 Mbit/s for 10 s, queue: calls}
  - {rate: over 8 Mbit/s for 10 s, queue: calls}
""",
)

"""More different rates in rules than each packet can be held against."""

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


KIND = Kind("too-many-rates", "error", find)

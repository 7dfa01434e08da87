"""More different lengths in rules than each packet can be compared with."""

from collections.abc import Iterator

from wily_sluice.engine.classify.classifier import MOST_LENGTHS
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.units import Size


def find(checked: Checked) -> Iterator[Told]:
    """Each length beyond the limit."""
    met: set[Size] = set()
    for rule, terms in checked.asked:
        length = terms.asked.get("length")
        if length is not None and length[0] not in met:
            met.add(length[0])
            if len(met) > MOST_LENGTHS:
                message = f"is the {len(met)}th different length in rules; the limit is {MOST_LENGTHS}"
                yield Told(("rules", rule.index, "length"), message, "use one of the others")


KIND = Kind(
    "too-many-lengths",
    "error",
    find,
    story="""\
Each length that a rule asks for is compared with every packet. To keep the work per packet small, a plan can have
only a few different ones.
""",
    has="""\
rules:
  - {length: up to 100 B, queue: calls}
  - {length: up to 200 B, queue: calls}
  - {length: up to 300 B, queue: calls}
  - {length: up to 400 B, queue: calls}
  - {length: up to 500 B, queue: calls}
  - {length: up to 600 B, queue: calls}
  - {length: up to 700 B, queue: calls}
  - {length: up to 800 B, queue: calls}
  - {length: up to 900 B, queue: calls}
""",
    lacks="""\
rules:
  - {length: up to 100 B, queue: calls}
  - {length: up to 200 B, queue: calls}
  - {length: up to 300 B, queue: calls}
  - {length: up to 400 B, queue: calls}
  - {length: up to 500 B, queue: calls}
  - {length: up to 600 B, queue: calls}
  - {length: up to 700 B, queue: calls}
  - {length: up to 800 B, queue: calls}
""",
)

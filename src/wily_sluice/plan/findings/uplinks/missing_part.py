"""A plan without one of the parts that each must have."""

from collections.abc import Iterator

from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Site, uplinks, trees."""
    for key in ("site", "uplinks", "trees"):
        if not getattr(checked.reading.content, key) and not any(cut[:1] == (key,) for cut in checked.reading.cut):
            examples = PlanEntry.model_fields[key].examples or []
            yield Told((key,), f"“{key}” is missing", f"add {key}: {examples[0]}")


KIND = Kind(
    "missing-part",
    "error",
    find,
    story="""\
A plan needs a site, at least one uplink and at least one tree. An uplink has the rate, and a tree divides it.
""",
    has="trees: null",
    lacks="site: Another example",
)

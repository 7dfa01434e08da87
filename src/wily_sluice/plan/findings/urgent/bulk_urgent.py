"""Bulk traffic in the queue that goes first."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.urgent.first import limits_itself, urgent_rules

BULK = ("files", "streaming", "swarms", "updates")


def find(checked: Checked) -> Iterator[Told]:
    """Each rule that puts a service of bulk there, with nothing that keeps transfers out."""
    for rule, terms, path in urgent_rules(checked):
        bulk = [service.category for service in terms.services or () if service.category in BULK]
        if bulk and not limits_itself(terms):
            message = f"puts {bulk[0]} into {path}, which goes first: one transfer then delays everything else in it"
            yield Told(("rules", rule.index, "service"), message, "choose a queue of a later priority")


KIND = Kind(
    "bulk-urgent",
    "warning",
    find,
    story="""\
The most urgent traffic should be small and steady. A transfer takes all the capacity it can get: in the first queue
it fills the uplink, and calls in the same queue wait for it.
""",
    has="""\
rules:
  - {service: [calls, updates], queue: calls}
""",
    lacks="""\
rules:
  - {service: [calls, meetings], queue: calls}
""",
)

"""A rule that leads what turns out to be bulk to a queue that an uplink refuses."""

from collections.abc import Iterator

from wily_sluice.plan.asking import Terms
from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each such rule; one that asks for a refused uplink's queue by hosts, names and ports alone is none."""
    for rule in checked.plan.sorting:
        if not any(_late(terms) for terms in rule.terms.walk()):
            continue
        uplinks = [use.uplink.name for use in checked.uses if rule.queues.get(use.tree.name, "") in use.uplink.refuses]
        if uplinks:
            lines = " and ".join(dict.fromkeys(uplinks))
            message = f"matches only once a conversation is under way, and {lines} would then drop it midway"
            yield Told(("rules", rule.index), message, "cap the queue there instead, or match by host or name")


def _late(terms: Terms) -> bool:
    over = terms.moved is not None and terms.moved[1]
    return over or bool(terms.rate) or any(service.shape == "bulk" for service in terms.services or ())


KIND = Kind(
    "refused-midway",
    "warning",
    find,
    story="""\
An uplink drops packets of queues that it `refuses`. The gate learns only during a conversation that it is bulk or
has moved a lot, so every long download on this uplink would break off. With a cap, it continues slowly.
""",
    has="""\
uplinks:
  line: {refuses: [rest]}
rules:
  - {moved: over 20 MB, queue: rest}
""",
    lacks="""\
uplinks:
  line: {refuses: [rest]}
rules:
  - {local: office, queue: rest}
""",
)

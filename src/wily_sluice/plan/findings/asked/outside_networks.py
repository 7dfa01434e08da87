"""A local party that is in no network of the plan."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.parties import askings


def find(checked: Checked) -> Iterator[Told]:
    """Each party, where all networks could be read."""
    plan = checked.plan
    if any(cut[:1] == ("networks",) for cut in checked.reading.cut):
        return
    for asking in askings(checked):
        party = asking.local
        if party is None or not party.addresses or party.members.hardware or party.addresses & checked.hosts:
            continue
        message = f"{party.addresses} is in no network of the plan, so none of your hosts match"
        remedy = "use one of: " + ", ".join(network.name for network in plan.networks)
        yield Told((*asking.location, "local"), message, remedy)


KIND = Kind(
    "outside-networks",
    "warning",
    find,
    story="""\
This address is in none of the plan's networks, so it never appears as the local side of a conversation. Perhaps a
network is missing, or the address is a remote.
""",
    has="""\
limiters:
  visitors: {local: 203.0.113.9, down: 5 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: 198.51.100.9, down: 5 Mbit/s}
""",
)

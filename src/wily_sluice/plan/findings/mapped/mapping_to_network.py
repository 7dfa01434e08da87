"""Mappings for every host of a network."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each grant that has a whole network in it."""
    for grant in checked.plan.granting:
        for network in checked.plan.networks:
            if network.addresses and not network.addresses - grant.local.addresses:
                message = f"any host of {network.name} may request mappings, regardless of its programs"
                yield Told(("mappings", grant.index, "local"), message, "name the hosts that need it, or a group")
                break


KIND = Kind(
    "mapping-to-network",
    "warning",
    find,
    story="""\
Every device of the network could then open ports to the internet, also through programs that you do not know about.
Grant mappings only to the few devices that need them, such as consoles.
""",
    has="""\
mappings:
  - {local: guests, port: 3000-3010}
""",
    lacks="""\
mappings:
  - {local: 198.51.100.20-198.51.100.29, port: 3000-3010}
""",
)

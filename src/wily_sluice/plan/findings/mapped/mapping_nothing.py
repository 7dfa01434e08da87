"""Mappings that no host can request."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each grant without a host of the plan's networks, or without a port."""
    hosts = checked.hosts
    for grant in checked.plan.granting:
        here = ("mappings", grant.index)
        if not grant.ports:
            yield Told((*here, "port"), "no port here matches the granted protocols", "check `protocol`")
        if hosts and not grant.local.members.hardware and not grant.local.addresses & hosts:
            yield Told((*here, "local"), "no host here is in a network of the plan", "name local hosts")


KIND = Kind(
    "mapping-nothing",
    "error",
    find,
    story="""\
A mapping needs hosts in your networks, and ports of TCP or UDP. This one would never open a port.
""",
    has="""\
mappings:
  - {local: 203.0.113.20, port: 3000}
""",
    lacks="""\
mappings:
  - {local: 192.0.2.20, port: 3000}
""",
)

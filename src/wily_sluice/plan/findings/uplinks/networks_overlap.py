"""Networks that share addresses: a host belongs to one network."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each pair."""
    networks = checked.plan.networks
    for index, network in enumerate(networks):
        for earlier in networks[:index]:
            if overlap := network.addresses & earlier.addresses:
                message = f"{overlap} is also in {earlier.name}"
                yield Told(("networks", network.name, "subnets"), message, "a host can be in one network only")


KIND = Kind(
    "networks-overlap",
    "error",
    find,
    story="""\
A host belongs to one network. If two networks contain the same address, rules and limiters for one would also apply
to hosts of the other.
""",
    has="""\
networks:
  guests: {subnets: [192.0.2.128/25]}
""",
    lacks="""\
networks:
  guests: {subnets: [203.0.113.128/25]}
""",
)

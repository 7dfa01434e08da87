"""A network that is most of the internet: then nearly all that is remote would be local."""

from collections.abc import Iterator
from ipaddress import ip_network

from wily_sluice.plan.findings.kind import Checked, Kind, Told

WIDEST = {4: 8, 6: 16}  # prefix lengths, of both versions of IP


def find(checked: Checked) -> Iterator[Told]:
    """Each subnet that is wider than the widest of private addresses."""
    for network in checked.plan.networks:
        for index, subnet in enumerate(network.subnets):
            prefix = ip_network(subnet)
            if prefix.prefixlen < WIDEST[prefix.version]:
                message = f"{subnet} covers much of the internet, not just your own hosts"
                yield Told(("networks", network.name, "subnets", index), message, "write the subnet of your hosts")


KIND = Kind(
    "network-too-wide",
    "warning",
    find,
    story="""\
A network is the subnet of your own hosts. With a prefix this wide, most remotes count as local, and traffic between
two local hosts is not shaped.
""",
    has="""\
networks:
  guests: {subnets: [128.0.0.0/2]}
""",
    lacks="""\
networks:
  guests: {subnets: [10.0.0.0/8]}
""",
)

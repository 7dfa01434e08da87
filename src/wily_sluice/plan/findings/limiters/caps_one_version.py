"""A limiter for hosts by their IPv4 addresses alone in a network that also has IPv6."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.plan.findings.parties import network_with_ipv6


def find(checked: Checked) -> Iterator[Told]:
    """Each such limiter, unless its remote excludes IPv6."""
    for limiter, _ in capping(checked):
        if limiter.local is not None and limiter.remote is None:
            network = network_with_ipv6(checked.plan, limiter.local)
            if network is not None:
                message = f"covers IPv4 only, but {network} has IPv6: these hosts are not capped there"
                remedy = "add their IPv6 addresses, or name them by hardware address"
                yield Told(("limiters", limiter.name, "local"), message, remedy)


KIND = Kind(
    "caps-one-version",
    "warning",
    find,
    story="""\
A host in a network with IPv6 has addresses of both versions, and its programs prefer IPv6. A limiter for its IPv4
address alone caps almost nothing. A hardware address covers both.
""",
    has="""\
networks:
  office: {subnets: [192.0.2.0/24, 2001:db8:1::/64]}
limiters:
  greedy: {local: 192.0.2.7, down: 5 Mbit/s}
""",
    lacks="""\
networks:
  office: {subnets: [192.0.2.0/24, 2001:db8:1::/64]}
limiters:
  greedy: {local: [192.0.2.7, "2001:db8:1::7"], down: 5 Mbit/s}
""",
)

"""A rule for hosts by their IPv4 addresses in a network that also has IPv6."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.parties import network_with_ipv6


def find(checked: Checked) -> Iterator[Told]:
    """Each such rule, unless its remote excludes IPv6."""
    for rule in checked.plan.sorting:
        local = rule.terms.local
        if local is None or rule.terms.version is not None or rule.terms.remote is not None:
            continue
        network = network_with_ipv6(checked.plan, local)
        if network is not None:
            message = f"covers IPv4 only, but {network} has IPv6: these hosts' IPv6 traffic goes elsewhere"
            remedy = "add their IPv6 addresses, name them by hardware address, or write `version: 4`"
            yield Told(("rules", rule.index, "local"), message, remedy)


KIND = Kind(
    "rule-one-version",
    "warning",
    find,
    whole=True,
    story="""\
A host in a network with IPv6 has addresses of both versions, and its programs prefer IPv6. A rule for its IPv4
address alone misses most of its traffic. A hardware address covers both.
""",
    has="""\
networks:
  office: {subnets: [192.0.2.0/24, 2001:db8:1::/64]}
rules:
  - {local: 192.0.2.40, queue: calls}
""",
    lacks="""\
networks:
  office: {subnets: [192.0.2.0/24, 2001:db8:1::/64]}
rules:
  - {local: [192.0.2.40, "2001:db8:1::40"], queue: calls}
""",
)

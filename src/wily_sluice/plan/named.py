"""Names of hosts: groups of one address, or of one of IPv4 and one of IPv6, are hosts."""

from ipaddress import ip_address
from itertools import islice

from wily_sluice.plan.model import Plan


def host_names(plan: Plan) -> dict[str, str]:
    """The names by the addresses, as these are written."""
    found: dict[str, str] = {}
    for name, members in plan.groups.items():
        ranges = list(islice(members.addresses, 3))
        single = all(first == last for first, last in ranges)
        if single and not members.names and [len(first) for first, _ in ranges] in ([4], [16], [4, 16]):
            found.update({str(ip_address(first)): name for first, _ in ranges})
    return found

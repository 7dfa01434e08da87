"""Names of hosts: those that the plan has for hosts, and groups of one address, or of one of IPv4 and one of IPv6."""

from collections.abc import Mapping
from ipaddress import ip_address
from itertools import islice

from wily_sluice.engine.conversations.strangers import GATEWAY
from wily_sluice.plan.file.addresses import hardware_text
from wily_sluice.plan.model import Plan


def host_names(plan: Plan) -> dict[str, str]:
    """The names by the addresses, as these are written."""
    found: dict[str, str] = {}
    for name, members in plan.groups.items():
        ranges = list(islice(members.addresses, 3))
        single = all(first == last for first, last in ranges)
        if single and not members.names and [len(first) for first, _ in ranges] in ([4], [16], [4, 16]):
            found.update({str(ip_address(first)): name for first, _ in ranges})
    for name, members in plan.named_hosts.items():
        found.update({str(ip_address(first)): name for first, _ in members.addresses})
    return found | {str(ip_address(first)): GATEWAY.name for first, _ in GATEWAY.addresses}


def hardware_names(plan: Plan) -> dict[str, str]:
    """The names by the hardware addresses, as these are written."""
    return {
        hardware_text(one): name
        for named in (plan.groups, plan.named_hosts)
        for name, members in named.items()
        if len(members.hardware) == 1 or named is plan.named_hosts
        for one in members.hardware
    }


def host_label(address: str, names: Mapping[str, str]) -> str:
    """A host's name and address; for the gateway, which has many addresses, only the name."""
    name = names.get(address, "")
    return name if name == GATEWAY.name else f"{name} {address}".strip()

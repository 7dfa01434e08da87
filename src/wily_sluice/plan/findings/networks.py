"""Findings about networks, and about the hosts that rules and limiters name."""

from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import ip_network

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.model import Plan
from wily_sluice.plan.terms import Party


@dataclass(frozen=True, slots=True)
class Asking:
    """The criteria of a rule or limiter for both sides, with their place in the file."""

    location: Location
    local: Party | None
    remote: Party | None
    protocols: tuple[int, ...] | None
    ports: tuple[tuple[int, int], ...] | None
    local_ports: tuple[tuple[int, int], ...] | None = None


def askings(checked: Checked) -> Iterator[Asking]:
    """Of all limiters that cap something, and of all rules."""
    for limiter in checked.plan.limiters:
        if limiter.down is not None or limiter.up is not None:
            here = ("limiters", limiter.name)
            yield Asking(here, limiter.local, limiter.remote, limiter.protocols, limiter.ports)
    for rule, terms in checked.asked:
        here_ = ("rules", rule.index)
        yield Asking(here_, terms.local, terms.remote, terms.protocols, terms.ports, terms.local_ports)


def network_with_ipv6(plan: Plan, party: Party) -> str | None:
    """The network of hosts that are named by IPv4 addresses alone, if it also has IPv6."""
    if party.members.hardware or not party.addresses or any(len(first) == 16 for first, _ in party.addresses):
        return None
    for network in plan.networks:
        if network.addresses & party.addresses and any(len(first) == 16 for first, _ in network.addresses):
            return network.name
    return None


@kind(
    "interface-shared",
    "error",
    story="""\
The gate recognises uplinks, tunnels and networks by their interfaces. If two have the same interface, it cannot
know which one a packet belongs to.
""",
    has="""\
networks:
  guests: {interface: lan0}
""",
    lacks="""\
networks:
  guests: {interface: lan2}
""",
)
def interface_shared(checked: Checked) -> Iterator[Told]:
    """Two uplinks, tunnels or networks that name one interface."""
    owners: dict[str, str] = {}
    plan = checked.plan
    for section, parts in (("uplinks", plan.uplinks), ("tunnels", plan.tunnels), ("networks", plan.networks)):
        for part in parts:
            if part.interface in owners:
                message = f"{part.interface} is already the interface of {owners[part.interface]}"
                yield Told((section, part.name, "interface"), message, "each needs its own")
            owners.setdefault(part.interface, part.name)


@kind(
    "networks-overlap",
    "error",
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
def networks_overlap(checked: Checked) -> Iterator[Told]:
    """Networks that share addresses: a host belongs to one network."""
    networks = checked.plan.networks
    for index, network in enumerate(networks):
        for earlier in networks[:index]:
            if overlap := network.addresses & earlier.addresses:
                message = f"{overlap} is also in {earlier.name}"
                yield Told(("networks", network.name, "subnets"), message, "a host can be in one network only")


WIDEST = {4: 8, 6: 16}  # prefix lengths, of both versions of IP


@kind(
    "network-too-wide",
    "warning",
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
def network_too_wide(checked: Checked) -> Iterator[Told]:
    """A network that is most of the internet: then nearly all that is remote would be local."""
    for network in checked.plan.networks:
        for index, subnet in enumerate(network.subnets):
            prefix = ip_network(subnet)
            if prefix.prefixlen < WIDEST[prefix.version]:
                message = f"{subnet} covers much of the internet, not just your own hosts"
                yield Told(("networks", network.name, "subnets", index), message, "write the subnet of your hosts")


@kind(
    "network-unlimited",
    "warning",
    whole=True,
    story="""\
A limit for guests is of little use if another network without a limit shares the uplink, perhaps one added later
for cameras or a neighbour.
""",
    has="""\
networks:
  cameras: {interface: lan2, subnets: [203.0.113.0/25]}
limiters:
  visitors: {local: guests, per: host, down: 5 Mbit/s}
  staff: {local: office, down: 40 Mbit/s}
""",
    lacks="""\
networks:
  cameras: {interface: lan2, subnets: [203.0.113.0/25]}
limiters:
  visitors: {local: guests, per: host, down: 5 Mbit/s}
  staff: {local: office, down: 40 Mbit/s}
  cameras: {local: cameras, up: 2 Mbit/s}
""",
)
def network_unlimited(checked: Checked) -> Iterator[Told]:
    """A network that no rule and no limiter is about, where they are about others."""
    networks = checked.plan.networks
    limited = AddressSet(part for lim in checked.plan.limiters if lim.local is not None for part in lim.local.addresses)
    named = [asking.local.addresses for asking in askings(checked) if asking.local is not None]
    named += [terms.networks.addresses for _, terms in checked.asked if terms.networks is not None]
    everybody = any(lim.local is None and lim.enabled for lim in checked.plan.limiters)
    touched = {network.name for network in networks if any(network.addresses & addresses for addresses in named)}
    capped = [network.name for network in networks if network.addresses & limited]
    for network in networks if len(touched) > 1 and capped and not everybody else ():
        if network.name not in touched:
            message = f"no rule or limiter is about it, while {capped[0]} is limited: its hosts can fill the line"
            yield Told(("networks", network.name), message, "add a limiter or a rule for it")

"""Findings about networks, their hosts, and versions of IP."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cache
from ipaddress import ip_network

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.plan.file.traffic_words import protocol_text
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.findings.limiters import capping
from wily_sluice.plan.findings.rules import named_ports
from wily_sluice.plan.groups.services import shipped_services
from wily_sluice.plan.model import Plan
from wily_sluice.plan.terms import Party, Terms


@dataclass(frozen=True, slots=True)
class Asking:
    """What a rule, a limiter, a route or a mapping asks of both sides, with its place in the file; ports by key."""

    location: Location
    local: Party | None
    remote: Party | None = None
    protocols: tuple[int, ...] | None = None
    ports: dict[str, tuple[tuple[int, int], ...]] = field(default_factory=dict)


def _asking(location: Location, terms: Terms) -> Asking:
    ports = {key: terms.asked[key] for key in ("port", "local-port", "remote-port") if key in terms.asked}
    return Asking(location, terms.local, terms.remote, terms.protocols, ports)


def askings(checked: Checked) -> Iterator[Asking]:
    """Of all limiters, rules and routes, with the blocks in them, and of all mappings; but those that are off."""
    plan = checked.plan
    for limiter in plan.limiters:
        if limiter.enabled:
            yield _asking(("limiters", limiter.name), limiter.terms)
    for section, parts in (("rules", plan.sorting), ("routes", plan.routing)):
        for part in parts:
            yield from (_asking((section, part.index), terms) for terms in part.terms.walk())
    for grant in plan.granting:
        yield Asking(("mappings", grant.index), grant.local)


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
    limiting = [limiter for limiter, _ in capping(checked)]
    limited = AddressSet(part for lim in limiting if lim.hosts is not None for part in lim.hosts.addresses)
    named = [asking.local.addresses for asking in askings(checked) if asking.local is not None]
    named += [lim.hosts.addresses for lim in limiting if lim.hosts is not None]
    named += [terms.networks.addresses for _, terms in checked.asked if terms.networks is not None]
    everybody = any(lim.hosts is None for lim in limiting)
    touched = {network.name for network in networks if any(network.addresses & addresses for addresses in named)}
    capped = [network.name for network in networks if network.addresses & limited]
    for network in networks if len(touched) > 1 and capped and not everybody else ():
        if network.name not in touched:
            message = f"no rule or limiter is about it, while {capped[0]} is limited: its hosts can fill the line"
            yield Told(("networks", network.name), message, "add a limiter or a rule for it")


@kind(
    "caps-one-version",
    "warning",
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
def caps_one_version(checked: Checked) -> Iterator[Told]:
    """A limiter for hosts by their IPv4 addresses alone in a network that also has IPv6."""
    for limiter, _ in capping(checked):
        if limiter.hosts is not None and limiter.remote is None:
            network = network_with_ipv6(checked.plan, limiter.hosts)
            if network is not None:
                message = f"covers IPv4 only, but {network} has IPv6: these hosts are not capped there"
                remedy = "add their IPv6 addresses, or name them by hardware address"
                yield Told(("limiters", limiter.name, "local"), message, remedy)


@kind(
    "rule-one-version",
    "warning",
    whole=True,
    story="""\
A host in a network with IPv6 has addresses of both versions, and its programs prefer IPv6. A rule for its IPv4
address alone misses most of its traffic. A hardware address covers both.
""",
    has="""\
networks:
  office: {subnets: [192.0.2.0/24, 2001:db8:1::/64]}
rules:
  - {local: 192.0.2.40, port: 5060, queue: calls}
""",
    lacks="""\
networks:
  office: {subnets: [192.0.2.0/24, 2001:db8:1::/64]}
rules:
  - {local: [192.0.2.40, "2001:db8:1::40"], port: 5060, queue: calls}
""",
)
def rule_one_version(checked: Checked) -> Iterator[Told]:
    """A rule for hosts by their IPv4 addresses in a network that also has IPv6."""
    for rule in checked.plan.sorting:
        local = rule.terms.local
        if local is None or rule.terms.version is not None or rule.terms.remote is not None:
            continue
        network = network_with_ipv6(checked.plan, local)
        if network is not None:
            message = f"covers IPv4 only, but {network} has IPv6: these hosts' IPv6 traffic goes elsewhere"
            remedy = "add their IPv6 addresses, name them by hardware address, or write `version: 4`"
            yield Told(("rules", rule.index, "local"), message, remedy)


TCP, UDP = 6, 17
MOST_PORTS = 100  # of a range that counts as ports of one service


@cache
def _both_transports() -> dict[int, str]:
    """Ports that a service uses over both TCP and UDP, and its name."""
    rules: dict[int, str] = {}
    for service in shipped_services().values():
        if service.shape:
            continue
        by_protocol: dict[int, set[int]] = {}
        for protocol, (first, last) in service.ports:
            if last - first < MOST_PORTS:
                by_protocol.setdefault(protocol, set()).update(range(first, last + 1))
        for port in by_protocol.get(TCP, set()) & by_protocol.get(UDP, set()):
            rules.setdefault(port, service.name)
    return rules


def _named(plan: Plan) -> dict[tuple[str, int], set[int]]:
    """The ports of such services that rules name, by queue and protocol."""
    lengths: dict[tuple[str, int], set[int]] = {}
    shared = _both_transports()
    for rule in plan.sorting:
        named = {port for first, last in named_ports(rule.terms) for port in shared if first <= port <= last}
        for protocol in (TCP, UDP):
            if rule.terms.protocols is None or protocol in rule.terms.protocols:
                for queue in rule.queues.values():
                    lengths.setdefault((queue, protocol), set()).update(named)
    return lengths


@kind(
    "rule-one-transport",
    "warning",
    whole=True,
    story="""\
Many services use one port over both TCP and UDP: DNS does, and so do calls and most pages. A rule for one transport
misses the other.
""",
    has="""\
rules:
  - {protocol: udp, port: 5060, queue: calls}
""",
    lacks="""\
rules:
  - {port: 5060, queue: calls}
""",
)
def rule_one_transport(checked: Checked) -> Iterator[Told]:
    """A rule for a port over TCP or UDP alone, where the service behind it uses both."""
    shared, over = _both_transports(), _named(checked.plan)
    for rule in checked.plan.sorting:
        ports = named_ports(rule.terms)
        if not ports or rule.terms.protocols not in ((TCP,), (UDP,)):
            continue
        wanted = UDP if rule.terms.protocols == (TCP,) else TCP
        for port, service in sorted(shared.items()):
            if any(port in over.get((queue, wanted), ()) for queue in rule.queues.values()):
                continue
            if any(first <= port <= last for first, last in ports):
                own, other = protocol_text(rule.terms.protocols), protocol_text((wanted,))
                message = f"covers {own} only, but {service} also uses port {port} over {other}"
                remedy = f"remove “protocol”, or write `service: {service}`"
                yield Told(("rules", rule.index, "protocol"), message, remedy)
                break

"""Findings about IP versions and transports that a rule or limiter misses."""

from collections.abc import Iterator
from functools import cache

from wily_sluice.plan.file.traffic_words import protocol_text
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.findings.limiters import capping
from wily_sluice.plan.findings.networks import network_with_ipv6
from wily_sluice.plan.findings.rules import named_ports
from wily_sluice.plan.groups.services import shipped_services
from wily_sluice.plan.model import Plan


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
        if limiter.local is not None and limiter.remote is None:
            network = network_with_ipv6(checked.plan, limiter.local)
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
  - {local: 192.0.2.40, queue: calls}
""",
    lacks="""\
networks:
  office: {subnets: [192.0.2.0/24, 2001:db8:1::/64]}
rules:
  - {local: [192.0.2.40, "2001:db8:1::40"], queue: calls}
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

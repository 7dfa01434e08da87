"""The layout of a rig for a plan: namespaces, links, addresses and routes. Pure; `rig` carries it out.

A network's namespace has addresses of its hosts: those in groups, rules and limiters, and some more. They share one
hardware address, like hosts behind a router; they are reached through one address, and each address is a host
(`neighbours`). The uplinks' addresses and the far end's are from the ranges for documentation (RFC 5737, RFC 3849) and,
between line and far end, from the shared range (RFC 6598). If the plan uses these, others take their place, from the
range for benchmarks (RFC 2544) or elsewhere in the same ranges.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network
from itertools import chain
from typing import NamedTuple

from wily_sluice.engine.packet import Framing
from wily_sluice.errors import LiveError
from wily_sluice.plan.model import Network, Plan
from wily_sluice.units import Direction, Nanoseconds, Rate

MOST_NAMED = 64  # addresses of one range that get a host


class Ranges(NamedTuple):
    """The subnets that are the rig's own: of the uplinks and of the links behind the lines, of IPv4 and of IPv6, each
    with a part for every uplink; and those of the far side.
    """

    wan4: str
    wan6: str
    mid4: str
    mid6: str
    far: tuple[str, ...]


USUAL = Ranges(
    "192.0.2.0/24",
    "2001:db8::/48",
    "100.64.0.0/24",
    "2001:db8:ff::/48",
    ("198.51.100.0/24", "203.0.113.0/24", "2001:db8:f000::/36"),
)
FAR_ADDRESSES = ("198.51.100.10", "2001:db8:f000::10")  # in the usual ranges, where the far side's program listens
POOLS = {4: ("198.18.0.0/15", "100.64.0.0/10"), 6: ("2001:db8::/32",)}


def free_ranges(plan: Plan) -> Ranges:
    """The usual ranges, except those that the plan uses."""
    taken = [ip_network(subnet) for network in plan.networks for subnet in network.subnets]

    def free(usual: str) -> str:
        wanted = ip_network(usual)
        length = 36 if usual in USUAL.far and wanted.version == 6 else wanted.prefixlen
        others = (part for pool in POOLS[wanted.version] for part in ip_network(pool).subnets(new_prefix=length))
        for candidate in chain([wanted], others):
            if not any(candidate.version == network.version and candidate.overlaps(network) for network in taken):
                taken.append(candidate)
                return str(candidate)
        raise LiveError(f"the plan's networks leave no range of IPv{wanted.version} for a rig")

    far = tuple(free(network) for network in USUAL.far)
    wan4, wan6, mid4, mid6 = (free(network) for network in (USUAL.wan4, USUAL.wan6, USUAL.mid4, USUAL.mid6))
    return Ranges(wan4, wan6, mid4, mid6, far)


@dataclass(frozen=True, slots=True)
class LineFigures:
    """The simulated line: rates in bit/s, one-way delay and buffer depth in ns, framing; the mean of its jitter in ns.

    A direction with a course follows it from the moment that the line's program receives SIGUSR1.
    """

    down: Rate
    up: Rate
    delay: Nanoseconds
    buffer: Nanoseconds
    framing: Framing
    courses: dict[Direction, tuple[tuple[Nanoseconds, Rate], ...]] = field(default_factory=dict)
    jitter: Nanoseconds = 0


@dataclass(frozen=True, slots=True)
class Layout:
    """A rig for a plan. `name` tells rigs apart; `hosts` is how many unnamed hosts each network gets."""

    plan: Plan
    name: str
    hosts: int
    ranges: Ranges = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "ranges", free_ranges(self.plan))

    @property
    def far_addresses(self) -> tuple[str, str]:
        """Where the far side's own program listens: of IPv4, and of IPv6."""
        first, last = self.ranges.far[0], self.ranges.far[-1]
        return _part(first, 10), str(ip_network(last).network_address + 16)

    @property
    def prefix(self) -> str:
        """The common prefix of the names of its namespaces."""
        return f"sluice-{self.name}."

    def namespace(self, where: str) -> str:
        """The namespace of a network, of `gateway`, of `far`, or of `line-UPLINK`."""
        return self.prefix + where

    @property
    def nodes(self) -> tuple[str, ...]:
        """All nodes there are, hosts first."""
        lines = (f"line-{uplink.name}" for uplink in self.plan.uplinks)
        return (*(network.name for network in self.plan.networks), "gateway", *lines, "far")

    def host_addresses(self, network: Network) -> list[str]:
        """The addresses of a network's hosts with their prefix lengths: the named ones, then unnamed ones."""
        addresses: dict[str, None] = {}
        subnets = [ip_network(subnet) for subnet in network.subnets]
        gateways = {str(_gateway(subnet)) for subnet in subnets}
        for subnet in subnets:
            for address in (*self._named(subnet), *_unnamed(subnet, self.hosts)):
                if address not in gateways:
                    addresses[f"{address}/{subnet.prefixlen}"] = None
        return list(addresses)

    def _named(self, subnet: IPv4Network | IPv6Network) -> Iterator[str]:
        """Addresses that the plan names one by one, or in ranges short enough to be hosts rather than subnets."""
        parties = [limiter.hosts.addresses for limiter in self.plan.limiters if limiter.hosts is not None]
        parties += [rule.terms.local.addresses for rule in self.plan.rules if rule.terms.local is not None]
        for addresses in (*(group.addresses for group in self.plan.groups.values()), *parties):
            for first, last in addresses:
                low, high = int.from_bytes(first), int.from_bytes(last)
                if high - low < MOST_NAMED and ip_address(first) in subnet and ip_address(last) in subnet:
                    yield from (str(ip_address(number.to_bytes(len(first)))) for number in range(low, high + 1))

    def own_addresses(self, uplink: int) -> tuple[str, str]:
        """Those of the gateway itself on the uplink with this index: of IPv4, and of IPv6."""
        return _part(self.ranges.wan4, 4 * uplink + 2), _part(self.ranges.wan6, 2, uplink)

    def line_addresses(self, uplink: int) -> tuple[str, str]:
        """Those that the gateway sends to on the uplink with this index."""
        return _part(self.ranges.wan4, 4 * uplink + 1), _part(self.ranges.wan6, 1, uplink)

    def behind_addresses(self, uplink: int) -> tuple[str, str]:
        """Those of the far side on the link behind the line with this index."""
        return _part(self.ranges.mid4, 4 * uplink + 2), _part(self.ranges.mid6, 2, uplink)

    def namespaces(self) -> list[str]:
        """All namespaces."""
        return [self.namespace(node) for node in self.nodes]

    def link_commands(self) -> list[str]:
        """Lines for `ip -batch`: every virtual link, each end in its namespace."""
        gateway, far = self.namespace("gateway"), self.namespace("far")
        lines = []
        for network in self.plan.networks:
            host = self.namespace(network.name)
            lines.append(f"link add eth0 netns {host} type veth peer name {network.interface} netns {gateway}")
        for index, uplink in enumerate(self.plan.uplinks):
            line = self.namespace(f"line-{uplink.name}")
            lines.append(f"link add {uplink.interface} netns {gateway} type veth peer name near netns {line}")
            lines.append(f"link add far netns {line} type veth peer name line{index} netns {far}")
        return lines

    def address_commands(self) -> dict[str, list[str]]:
        """For each namespace, lines for `ip -batch`: addresses, links up, routes; in an order that works."""
        commands: dict[str, list[str]] = {name: ["link set lo up"] for name in self.namespaces()}
        gateway, far = commands[self.namespace("gateway")], commands[self.namespace("far")]
        for network in self.plan.networks:
            host = commands[self.namespace(network.name)]
            for subnet in map(ip_network, network.subnets):
                nodad = " nodad" if subnet.version == 6 else ""
                gateway.append(f"address add {_gateway(subnet)}/{subnet.max_prefixlen} dev {network.interface}{nodad}")
            gateway.append(f"link set {network.interface} up")
            for address in self.host_addresses(network):
                host.append(f"address add {address} dev eth0{' nodad' if ':' in address else ''}")
            host.append("link set eth0 up")
            for version in (4, 6):
                own = [subnet for subnet in map(ip_network, network.subnets) if subnet.version == version]
                if own:
                    host.append(f"route add default via {_gateway(own[0])} dev eth0")
                for subnet in own:
                    hosts = (address.split("/")[0] for address in self.host_addresses(network))
                    router = next(address for address in hosts if ip_address(address) in subnet)
                    gateway.append(f"route add {subnet} via {router} dev {network.interface} onlink")
        far += [f"route add local {far_subnet} dev lo" for far_subnet in self.ranges.far]
        for index, uplink in enumerate(self.plan.uplinks):
            line = commands[self.namespace(f"line-{uplink.name}")]
            near4, near6 = self.line_addresses(index)
            behind4, behind6 = self.behind_addresses(index)
            back4, back6 = _part(self.ranges.mid4, 4 * index + 1), _part(self.ranges.mid6, 1, index)
            ends = (
                (line, "near", near4, near6),
                (gateway, uplink.interface, *self.own_addresses(index)),
                (line, "far", back4, back6),
                (far, f"line{index}", behind4, behind6),
            )
            for owner, device, v4, v6 in ends:
                owner.append(f"address add {v4}/30 dev {device}")
                owner.append(f"address add {v6}/64 dev {device} nodad")
                owner.append(f"link set {device} up")
            metric = 100 * (index + 1)
            gateway.append(f"route add default via {near4} metric {metric}")
            gateway.append(f"route add default via {near6} metric {metric}")
            for far_subnet in self.ranges.far:
                line.append(f"route add {far_subnet} via {behind6 if ':' in far_subnet else behind4}")
            far.append(f"route add {_part(self.ranges.wan4, 4 * index)}/30 via {back4}")
            far.append(f"route add {_part(self.ranges.wan6, 0, index)}/64 via {back6}")
        return commands


def _gateway(subnet: IPv4Network | IPv6Network) -> str:
    return str(subnet.network_address + 1)


def _part(subnet: str, number: int, uplink: int = 0) -> str:
    """The address with this number in a subnet; of IPv6, in the /64 of an uplink's index."""
    return str(ip_network(subnet).network_address + (uplink << 64) + number)


def _unnamed(subnet: IPv4Network | IPv6Network, count: int) -> Iterator[str]:
    """Addresses from the hundredth on; in a smaller subnet, from the second on."""
    first = 100 if subnet.num_addresses > 100 + count else 2
    last = min(first + count, subnet.num_addresses - 1)
    return (str(subnet.network_address + number) for number in range(first, last))

"""Findings about criteria that rules and limiters share: hosts, remotes, ports."""

from collections.abc import Iterator
from contextlib import suppress
from ipaddress import IPv6Address
from typing import Any

from wily_sluice.plan.edit.operations import Operation, Set, at
from wily_sluice.plan.file.words import address_set
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.findings.networks import askings


@kind(
    "outside-networks",
    "warning",
    story="""\
This address is in none of the plan's networks, so it never appears as the local side of a conversation. Perhaps a
network is missing, or the address is a remote.
""",
    has="""\
limiters:
  visitors: {local: 203.0.113.9, down: 5 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: 198.51.100.9, down: 5 Mbit/s}
""",
)
def outside_networks(checked: Checked) -> Iterator[Told]:
    """A local party that is in no network of the plan."""
    plan = checked.plan
    if any(cut[:1] == ("networks",) for cut in checked.reading.cut):
        return
    for asking in askings(checked):
        party = asking.local
        if party is None or not party.addresses or party.members.hardware or party.addresses & checked.hosts:
            continue
        message = f"{party.addresses} is in no network of the plan, so none of your hosts match"
        remedy = "use one of: " + ", ".join(network.name for network in plan.networks)
        yield Told((*asking.location, "local"), message, remedy)


@kind(
    "own-remote",
    "warning",
    story="""\
The remote is on the internet side of an uplink. Traffic between your own hosts does not use an uplink and is not
shaped.
""",
    has="""\
rules:
  - {remote: 198.51.100.9, queue: calls}
""",
    lacks="""\
rules:
  - {remote: 203.0.113.9, queue: calls}
""",
)
def own_remote(checked: Checked) -> Iterator[Told]:
    """A remote that is a local host."""
    for asking in askings(checked):
        if asking.remote is not None and (own := asking.remote.addresses & checked.hosts):
            message = f"{own} are your own hosts: traffic between your own hosts is not shaped"
            yield Told((*asking.location, "remote"), message, "write `local:`, or name the far side")


MAPPED = address_set("::ffff:0:0/96")


def _fix(location: Location, written: Any) -> tuple[Operation, ...]:
    """Each such address as the IPv4 address that it maps."""
    places = enumerate(written) if isinstance(written, list) else [(None, written)]
    operations: list[Operation] = []
    for index, word in places:
        with suppress(ValueError):
            mapped = IPv6Address(word).ipv4_mapped
            if mapped is not None:
                operations.append(Set(location if index is None else (*location, index), str(mapped)))
    return tuple(operations)


@kind(
    "mapped-remote",
    "warning",
    story="""\
`::ffff:203.0.113.9` is a way to write an IPv4 address inside a program (RFC 4291 §2.5.5.2). No packet on the wire
carries it.
""",
    has="""\
rules:
  - {remote: "::ffff:203.0.113.9", queue: calls}
""",
    lacks="""\
rules:
  - {remote: 203.0.113.9, queue: calls}
""",
)
def mapped_remote(checked: Checked) -> Iterator[Told]:
    """A remote by an IPv4-mapped address, which no packet carries (RFC 4291 §2.5.5.2)."""
    for asking in askings(checked):
        if asking.remote is not None and (mapped := asking.remote.addresses & MAPPED):
            message = f"{mapped} is IPv4-mapped, which no packet carries"
            location = (*asking.location, "remote")
            yield Told(location, message, "write the IPv4 address", _fix(location, at(checked.document.data, location)))


WITH_PORTS = {6, 17, 33, 132, 136}  # TCP, UDP, DCCP, SCTP, UDP-Lite


@kind(
    "ports-without-protocol",
    "error",
    story="""\
Only TCP, UDP, SCTP, DCCP and UDP-Lite have ports. A rule for ports of another protocol can never match.
""",
    has="""\
rules:
  - {protocol: icmp, port: 80, queue: calls}
""",
    lacks="""\
rules:
  - {protocol: icmp, queue: calls}
""",
)
def ports_without_protocol(checked: Checked) -> Iterator[Told]:
    """Ports of a protocol that has none."""
    for asking in askings(checked):
        if asking.protocols and not set(asking.protocols) & WITH_PORTS:
            for key, ports in (("port", asking.ports), ("local-port", asking.local_ports)):
                if ports:
                    location = (*asking.location, key)
                    yield Told(location, "this protocol has no ports", "remove “port” or “protocol”")

"""Findings about what rules ask, and about names."""

from collections.abc import Iterator
from contextlib import suppress
from ipaddress import IPv6Address
from typing import Any

from wily_sluice.plan.edit.operations import Operation, Set, at
from wily_sluice.plan.file.words import address_set
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.findings.networks import askings
from wily_sluice.plan.reach.regions import TooInvolvedError
from wily_sluice.plan.reach.space import moments
from wily_sluice.plan.terms import Party


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
            for key, ports in asking.ports.items():
                if ports:
                    location = (*asking.location, key)
                    yield Told(location, "this protocol has no ports", "remove “port” or “protocol”")


@kind(
    "named-twice",
    "warning",
    story="""\
Statistics, the live view and `sluice edit` tell rules, routes and mappings apart by their names. Two of one name are
added up as one.
""",
    has="""\
rules:
  - {name: Handsets, service: calls, queue: calls}
  - {name: Handsets, local: guests, queue: rest}
""",
    lacks="""\
rules:
  - {name: Handsets, service: calls, queue: calls}
  - {name: Guests, local: guests, queue: rest}
""",
)
def named_twice(checked: Checked) -> Iterator[Told]:
    """A rule, a route or a mapping with the name of an earlier one."""
    plan = checked.plan
    for section, parts in (("rules", plan.rules), ("routes", plan.routes), ("mappings", plan.grants)):
        names: set[str] = set()
        for part in parts:
            if part.name in names:
                message = f"has the name of an earlier one, “{part.name}”"
                yield Told((section, part.index, "name"), message, "give it another name")
            names.add(part.name)


@kind(
    "schedule-never",
    "warning",
    story="""\
The windows and the dates of this schedule never coincide, so whatever uses it is always off.
""",
    has="""\
schedules:
  party: [sat, from 2027-03-01, until 2027-03-05]
limiters:
  visitors: {local: guests, down: 5 Mbit/s, when: party}
""",
    lacks="""\
schedules:
  party: [sat, from 2027-03-01, until 2027-03-06]
limiters:
  visitors: {local: guests, down: 5 Mbit/s, when: party}
""",
)
def schedule_never(checked: Checked) -> Iterator[Told]:
    """A schedule that never applies; whether one with a calendar does is not known here."""
    for schedule in checked.plan.schedules.values():
        if schedule.calendars:
            continue
        with suppress(TooInvolvedError):
            if (True,) not in moments([schedule]):
                message = "never applies: its windows, dates and exceptions leave no time"
                yield Told(("schedules", schedule.name), message, "remove something from it")


@kind(
    "group-unused",
    "warning",
    whole=True,
    story="""\
No rule, limiter, service or other group names this group. Perhaps a reference is missing, or the group is left
over.
""",
    has="""\
groups:
  printers: [192.0.2.60]
""",
    lacks="""\
groups:
  printers: [192.0.2.60]
limiters:
  printing: {local: printers, up: 1 Mbit/s}
""",
)
def group_unused(checked: Checked) -> Iterator[Told]:
    """A group that nothing names."""
    plan, content = checked.plan, checked.reading.content
    if content is None:
        return
    asked = [terms for part in plan.asking for terms in part.terms.walk()]
    parties = [party for limiter in plan.limiters for party in (limiter.local, limiter.remote)]
    parties += [*(grant.local for grant in plan.grants), plan.steady]
    parties += [party for terms in asked for party in (terms.local, terms.remote)]
    named = {word for party in parties if party is not None for word in party.words}
    named |= {word for entry in content.groups.values() for word in (*entry.members, *entry.except_)}
    named |= {word for service in content.services.values() for word in service.remote or ()}
    rules = [terms for part in (*content.rules, *content.routes) if part for terms in part.walk()]
    ports = [terms.said(key) for terms in rules for key in ("port", "local-port", "remote-port")]
    ports += [limiter.port for limiter in content.limiters.values()]
    ports += [mapping.port for mapping in content.mappings if mapping]
    named |= {word for words in ports if words for word in words if isinstance(word, str)}
    for group in plan.groups:
        if group not in named:
            yield Told(("groups", group), "is not used", "use it or remove it")


def _addresses(party: Party | None) -> Iterator[tuple[str, bytes]]:
    """The single addresses of a party that says nothing else."""
    if party is not None and len(party.words) == 1 and not party.members.hardware:
        for first, last in party.addresses:
            if first == last:
                yield party.words[0], first


@kind(
    "address-may-change",
    "warning",
    story="""\
A DHCP server may give a host another address tomorrow. A hardware address stays the same, and the gate follows it
to every IPv4 and IPv6 address.
""",
    has="""\
groups:
  tablet: ["02:00:5e:10:00:07", 192.0.2.9]
limiters:
  evening: {local: 192.0.2.9, down: 4 Mbit/s}
  always: {local: tablet, up: 1 Mbit/s}
""",
    lacks="""\
groups:
  tablet: ["02:00:5e:10:00:07", 192.0.2.9]
limiters:
  evening: {local: tablet, down: 4 Mbit/s}
""",
)
def address_may_change(checked: Checked) -> Iterator[Told]:
    """A host named by its address, whose hardware address the plan knows."""
    known = {
        address: name
        for name, members in (*checked.plan.groups.items(), *checked.plan.named_hosts.items())
        if len(members.hardware) == 1
        for address, last in members.addresses
        if address == last
    }
    for asking in askings(checked) if known else ():
        for word, address in _addresses(asking.local):
            if address in known:
                message = f"{word} may change; {known[address]} knows this host by its hardware address"
                yield Told((*asking.location, "local"), message, f"write {known[address]}")


@kind(
    "service-unused",
    "warning",
    whole=True,
    story="""\
No rule or limiter names this service or its category, so it only appears in statistics.
""",
    has="""\
services:
  league: {ports: [41100-41120/udp]}
""",
    lacks="""\
services:
  league: {ports: [41100-41120/udp]}
rules:
  - {service: league, queue: calls}
""",
)
def service_unused(checked: Checked) -> Iterator[Told]:
    """A service of the plan that no rule and no limiter names."""
    plan, content = checked.plan, checked.reading.content
    called = {word for part in plan.asking for terms in part.terms.walk() for word in terms.service_words}
    called |= {word for limiter in plan.limiters for word in limiter.service_words}
    for service in plan.services.values():
        written = content is not None and service.own and service.name in content.services
        if written and not {service.name, service.category} & called:
            yield Told(("services", service.name), "is not used", "use it in a rule or remove it")


@kind(
    "schedule-unused",
    "warning",
    whole=True,
    story="""\
No rule, route or limiter has `when:` with this schedule.
""",
    has="""\
schedules:
  evenings: [18:00-23:00]
""",
    lacks="""\
schedules:
  evenings: [18:00-23:00]
limiters:
  visitors: {local: guests, down: 5 Mbit/s, when: evenings}
""",
)
def schedule_unused(checked: Checked) -> Iterator[Told]:
    """A schedule that no rule, route or limiter names."""
    plan = checked.plan
    named = {terms.when for part in plan.asking for terms in part.terms.walk()}
    named |= {limiter.when for limiter in plan.limiters}
    for schedule in plan.schedules:
        if schedule not in named:
            yield Told(("schedules", schedule), "is not used", "use it or remove it")

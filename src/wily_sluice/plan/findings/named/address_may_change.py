"""A host named by its address, whose hardware address the plan knows."""

from collections.abc import Iterator

from wily_sluice.plan.asking import Party
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.parties import askings


def find(checked: Checked) -> Iterator[Told]:
    """Each rule and limiter that writes an address which is in a group together with a hardware address."""
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


def _addresses(party: Party | None) -> Iterator[tuple[str, bytes]]:
    """The single addresses of a party that says nothing else."""
    if party is not None and len(party.words) == 1 and not party.members.hardware:
        for first, last in party.addresses:
            if first == last:
                yield party.words[0], first


KIND = Kind(
    "address-may-change",
    "warning",
    find,
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

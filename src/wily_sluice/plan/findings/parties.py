"""The hosts that rules and limiters name: findings that both have in common."""

from collections.abc import Iterator
from dataclasses import dataclass

from wily_sluice.plan.asking import Party
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.kind import Checked
from wily_sluice.plan.model import Plan


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

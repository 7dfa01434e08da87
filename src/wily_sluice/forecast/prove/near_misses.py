"""Conversations that match a rule, a limiter or a route only just, or miss by one term: the next port, a neighbour."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from ipaddress import ip_address
from typing import Any, NamedTuple, TypeAlias

from wily_sluice.engine.classify.header import TCP, UDP
from wily_sluice.engine.classify.service import NOTHING, Known
from wily_sluice.forecast.prove.example import (
    LOCAL_PORT,
    REMOTE_PORT,
    REMOTES,
    Example,
    first_of,
    remote_for,
    remotes_for,
)
from wily_sluice.plan.model import Plan
from wily_sluice.plan.terms import Party, Terms

OTHER_DSCP = 46  # expedited forwarding, which few ask for


class Miss(NamedTuple):
    """A conversation that misses by one term, in words."""

    words: str
    example: Example


Misses: TypeAlias = Iterator[Miss]


def misses(plan: Plan, example: Example, terms: Terms) -> Misses:
    """Conversations like one that matches, each different by one of the terms. Some may match nevertheless."""
    for part in terms.walk():
        for key, value in part.asked.items():
            if key in _FIELDS:
                yield from _FIELDS[key](plan, example, value)
    for block in terms.none:
        for part in block.walk():
            for key, value in part.asked.items():
                if key in _INSIDE:
                    yield from _INSIDE[key](plan, example, value)


def edges(plan: Plan, example: Example, terms: Terms) -> Misses:
    """Conversations like one that matches, at either end of a range of the terms."""
    for part in terms.walk() if not terms.none else (terms,):
        for key, value in part.asked.items():
            if key in ("local", "network", "remote"):
                width = len(example.parties.local)
                ends = [end for span in value.addresses if len(span[0]) == width for end in span]
                for end in ends:
                    if key == "remote":
                        far = replace(example, parties=example.parties._replace(remote=end))
                        yield Miss(f"to {_text(end)}", _named(far, ""))
                    elif end in plan.hosts and not _is_end_of_network(plan, end):
                        yield _from(replace(example, hardware=b""), end)
            elif key in ("port", "remote-port", "local-port"):
                for port in dict.fromkeys(end for span in value for end in span):
                    if 0 < port < 65_536:
                        yield _at(example, port, key != "local-port")
            if key == "remote":
                usual = (far for far in remotes_for(plan, width) if far not in value.addresses)
                elsewhere = replace(example, parties=example.parties._replace(remote=next(usual, REMOTES[0])))
                for name in sorted(value.members.names):
                    word = name.replace("*.", "a.")
                    yield Miss(f"to {word}", _named(elsewhere, word))
            elif key == "service":
                bare = replace(example, known=NOTHING, shape="")
                for service in value.services:
                    for protocol, span in service.ports:
                        for port in dict.fromkeys(span):
                            parties = example.parties._replace(protocol=protocol, remote_port=port)
                            yield Miss(f"to port {port}", replace(bare, parties=parties, shape=service.shape))


def _at(example: Example, port: int, remote: bool) -> Miss:
    if remote:
        return Miss(f"to port {port}", replace(example, parties=example.parties._replace(remote_port=port)))
    return Miss(f"from port {port}", replace(example, parties=example.parties._replace(local_port=port)))


def _is_end_of_network(plan: Plan, address: bytes) -> bool:
    """Whether it is the address of a network itself, or its broadcast address: no host has these."""
    return any(address in span for network in plan.networks for span in network.addresses)


def _neighbours(party: Party, width: int) -> Iterator[bytes]:
    """The addresses right before and behind the ranges of a party."""
    for first, last in party.addresses:
        if len(first) == width:
            for number in (int.from_bytes(last) + 1, int.from_bytes(first) - 1):
                if 0 < number < 1 << (8 * width):
                    yield number.to_bytes(width)


def _from(example: Example, local: bytes) -> Miss:
    return Miss(f"from {_text(local)}", replace(example, parties=example.parties._replace(local=local)))


def _text(packed: bytes) -> str:
    return str(ip_address(packed))


def _local(plan: Plan, example: Example, party: Party) -> Misses:
    width = len(example.parties.local)
    bare = replace(example, hardware=b"")
    if example.hardware:
        other = bytes((*example.hardware[:-1], example.hardware[-1] ^ 1))
        yield Miss("from the next hardware address", replace(example, hardware=other))
    for address in _neighbours(party, width):
        if address in plan.hosts and not _is_end_of_network(plan, address):
            yield _from(bare, address)
    for network in plan.networks:
        other_host = first_of(network.addresses - party.addresses, width)
        if other_host is not None:
            yield _from(bare, other_host)


def _remote(plan: Plan, example: Example, party: Party) -> Misses:
    for address in _neighbours(party, len(example.parties.remote)):
        if address not in plan.hosts:
            far = example.parties._replace(remote=address)
            yield Miss(f"to {_text(address)}", _named(replace(example, parties=far), ""))
    for usual in remotes_for(plan, len(example.parties.remote)):
        if usual not in party.addresses:
            elsewhere = replace(example, parties=example.parties._replace(remote=usual))
            for name in sorted(party.members.names):
                bare = name.removeprefix("*.")
                if name != bare:
                    yield Miss(f"to {bare}", _named(elsewhere, bare))
                yield Miss(f"to x{bare}", _named(elsewhere, f"x{bare}"))
            yield Miss(f"to {_text(usual)}", _named(elsewhere, ""))
            return


def _named(example: Example, name: str) -> Example:
    return replace(example, known=Known(example.known.seen, (name,) if name else ()))


def _protocol(plan: Plan, example: Example, asked: Sequence[int]) -> Misses:
    for protocol, words in ((TCP, "TCP"), (UDP, "UDP")):
        if protocol not in asked:
            parties = example.parties._replace(protocol=protocol)
            if not parties.remote_port:
                parties = parties._replace(local_port=LOCAL_PORT, remote_port=REMOTE_PORT)
            yield Miss(f"over {words}", replace(example, parties=parties))


def _beyond(ranges: Sequence[tuple[int, int]]) -> Iterator[int]:
    for first, last in ranges:
        yield from (port for port in (last + 1, first - 1) if 0 < port < 65_536)


def _port(remote: bool) -> Callable[[Plan, Example, Sequence[tuple[int, int]]], Misses]:
    def ports(plan: Plan, example: Example, asked: Sequence[tuple[int, int]]) -> Misses:
        for port in _beyond(asked):
            yield _at(example, port, remote)

    return ports


def _service(plan: Plan, example: Example, asked: Any) -> Misses:
    bare = replace(example, known=NOTHING, shape="")
    yield Miss("with nothing recognised", bare)
    for service in asked.services:
        for _, (first, last) in service.ports:
            for port in (last + 1, first - 1):
                if 0 < port < 65_536:
                    yield Miss(f"to port {port}", replace(bare, parties=example.parties._replace(remote_port=port)))
        for name in service.names:
            yield Miss(f"to x{name.removeprefix('*.')}", replace(_named(bare, f"x{name.removeprefix('*.')}"), shape=""))


def _version(plan: Plan, example: Example, asked: int) -> Misses:
    width = 16 if asked == 4 else 4
    local = first_of(plan.hosts, width)
    if local is not None:
        ends = example.parties._replace(local=local, remote=remote_for(plan, width))
        yield Miss(f"over IPv{6 if asked == 4 else 4}", replace(example, parties=ends))


def _dscp(plan: Plan, example: Example, asked: Sequence[int]) -> Misses:
    for dscp in (max(asked) + 1, min(asked) - 1, OTHER_DSCP):
        if 0 <= dscp < 64 and dscp not in asked:
            yield Miss(f"with DSCP {dscp}", replace(example, dscps=1 << dscp))


def _moved(plan: Plan, example: Example, asked: tuple[int, bool]) -> Misses:
    size, over = asked
    yield Miss(
        "with less volume" if over else "with more volume",
        replace(example, moved=size * 4 // 5 if over else size * 5 // 4),
    )


def _rate(plan: Plan, example: Example, asked: object) -> Misses:
    yield Miss("slower", replace(example, fast=0))


def _kind(plan: Plan, example: Example, asked: int) -> Misses:
    yield Miss("another packet", replace(example, kind=0))


def _length(plan: Plan, example: Example, asked: tuple[int, bool]) -> Misses:
    length, longer = asked
    yield Miss(
        "a shorter packet" if longer else "a longer packet", replace(example, length=length if longer else length + 1)
    )


_FIELDS: dict[str, Callable[[Plan, Example, Any], Misses]] = {
    "local": _local,
    "network": _local,
    "remote": _remote,
    "protocol": _protocol,
    "port": _port(remote=True),
    "remote-port": _port(remote=True),
    "local-port": _port(remote=False),
    "service": _service,
    "version": _version,
    "dscp": _dscp,
    "moved": _moved,
    "rate": _rate,
    "packet": _kind,
    "length": _length,
}


def _in_party(plan: Plan, example: Example, party: Party) -> Misses:
    host = first_of(party.addresses, len(example.parties.local))
    if host is not None and host in plan.hosts:
        yield _from(example, host)


def _at_remote(plan: Plan, example: Example, party: Party) -> Misses:
    far = first_of(party.addresses, len(example.parties.remote))
    if far is not None:
        yield Miss(f"to {_text(far)}", replace(example, parties=example.parties._replace(remote=far)))
    for name in sorted(party.members.names):
        yield Miss(f"to {name.replace('*.', 'a.')}", _named(example, name.replace("*.", "a.")))


def _at_port(plan: Plan, example: Example, asked: Sequence[tuple[int, int]]) -> Misses:
    for first, last in asked:
        for port in dict.fromkeys((first, last)):
            yield Miss(f"to port {port}", replace(example, parties=example.parties._replace(remote_port=port)))


_INSIDE: dict[str, Callable[[Plan, Example, Any], Misses]] = {
    "local": _in_party,
    "network": _in_party,
    "remote": _at_remote,
    "port": _at_port,
    "remote-port": _at_port,
}

"""Promises about mappings: a host of a grant gets its ports opened, and nobody else does.

They are tried in the lab only, on the table of mappings that the gate uses.
"""

from collections.abc import Iterator
from ipaddress import ip_address

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.example import first_of
from wily_sluice.forecast.prove.proof import Judged, Opened, Promise, Proof, World
from wily_sluice.plan.terms import TRANSPORTS, Grant


def promises(bench: Bench) -> Iterator[Promise]:
    """Both ends of each range are opened; a neighbouring port or host, the other protocol and one port more are not."""
    for grant in bench.plan.granting:
        host = _host(bench, grant)
        if host is not None:
            yield _of_grant(bench, grant, *host)


def _host(bench: Bench, grant: Grant) -> tuple[bytes, bytes] | None:
    """An address that it is for, with the hardware address if it is known by that alone."""
    for width in (4, 16):
        named = first_of(grant.local.addresses, width)
        if named is not None:
            return named, b""
    some = next((host for width in (4, 16) if (host := first_of(bench.plan.hosts, width)) is not None), None)
    hardware = min(grant.local.members.hardware, default=b"")
    return (some, hardware) if some is not None and hardware else None


def _of_grant(bench: Bench, grant: Grant, host: bytes, hardware: bytes) -> Promise:
    wanted: dict[str, Opened] = {}
    unwanted: dict[str, Opened] = {}
    for protocol, spans in grant.ports.items():
        for first, last in spans:
            for port in dict.fromkeys((first, last)):
                wanted[f"port {port}/{TRANSPORTS[protocol]}"] = Opened(host, protocol, port, hardware)
            for port in (last + 1, first - 1):
                if 0 < port < 65_536:
                    unwanted[f"port {port}/{TRANSPORTS[protocol]}"] = Opened(host, protocol, port, hardware)
    some = next(iter(wanted.values()))
    for end in dict.fromkeys(end for span in grant.local.addresses for end in span):
        wanted[f"{ip_address(end)}"] = some._replace(local=end, hardware=b"")
    for other in TRANSPORTS:
        if other not in grant.ports:
            unwanted[f"port {some.inside}/{TRANSPORTS[other]}"] = some._replace(protocol=other)
    for stranger in _strangers(bench, grant, host):
        unwanted[f"{ip_address(stranger)}"] = some._replace(local=stranger, hardware=b"")
    if hardware:
        next_device = bytes((*hardware[:-1], hardware[-1] ^ 1))
        unwanted["the next hardware address"] = some._replace(hardware=next_device)
    if sum(last - first + 1 for spans in grant.ports.values() for first, last in spans) > grant.count:
        unwanted[f"port number {grant.count + 1} of a host"] = some._replace(earlier=grant.count)
    refused = {words: asked for words, asked in unwanted.items() if not bench.opened(asked)}
    expected = f"opens {len(wanted)} ports, not {len(refused)} others" if refused else f"opens {len(wanted)} ports"
    cases = (*(f"opens {words}" for words in wanted), *(f"refuses {words}" for words in refused))

    def judge(world: World) -> Judged:
        wrong = [f"{words} is not opened" for words, asked in wanted.items() if not world.opened(asked)]
        wrong += [f"{words} is opened" for words, asked in refused.items() if world.opened(asked)]
        return Judged(not wrong, "; ".join(wrong) or "it does")

    proof = Proof("mapping", grant.name, grant.uplink, ("mappings", grant.index), expected, cases=cases)
    return Promise(proof, judge)


def _strangers(bench: Bench, grant: Grant, host: bytes) -> Iterator[bytes]:
    """The addresses beside a grant's, and a host of each network beyond it."""
    width = len(host)
    for first, last in grant.local.addresses:
        for number in (int.from_bytes(last) + 1, int.from_bytes(first) - 1) if len(first) == width else ():
            if 0 < number < 1 << 8 * width and (beside := number.to_bytes(width)) in bench.plan.hosts:
                yield beside
    for network in bench.plan.networks:
        rest = AddressSet(network.addresses) - grant.local.addresses
        if (other := first_of(rest, width)) is not None:
            yield other

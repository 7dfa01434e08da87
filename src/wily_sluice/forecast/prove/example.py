"""Made-up conversations that match rules, routes and limiters."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from ipaddress import ip_address
from itertools import islice, product
from typing import Any

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.condition import LONGEST_PACKET, Subject
from wily_sluice.engine.classify.header import TCP, UDP, Parties, key_of
from wily_sluice.engine.classify.service import NOTHING, Known
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.conversations.watch import BULK
from wily_sluice.engine.shaper import Shaper
from wily_sluice.plan.build import build_site
from wily_sluice.plan.model import Plan
from wily_sluice.plan.terms import Service, Terms
from wily_sluice.units import Size

MOST_TRIED = 400  # candidates for one rule
MOST_HOSTS = 6  # tried of each range of addresses
EVERY_RATE = (1 << 8) - 1  # all lasting rates that rules ask for
# Remotes of the ranges for documentation and for benchmarks (RFC 5737, RFC 3849, RFC 2544).
REMOTES = tuple(
    ip_address(text).packed
    for text in (
        *("203.0.113.77", "198.51.100.77", "192.0.2.77", "198.18.0.77", "198.19.0.77"),
        *("2001:db8:f000::4d", "2001:db8:e000::4d", "2001:db8:d000::4d"),
    )
)
OF_TCP = frozenset(("http", "imap", "pop3", "rfb", "rtsp", "smtp", "ssh", "tls"))  # recognised protocols over TCP
LOCAL_PORT, REMOTE_PORT = 40_077, 39_999


@dataclass(frozen=True, slots=True)
class Example:
    """A conversation with everything recognition could find; `hardware` is the host's hardware address, or empty."""

    parties: Parties
    known: Known = NOTHING
    shape: str = ""
    moved: Size = 0
    fast: int = 0
    dscps: int = 1
    kind: int = 0
    length: Size = LONGEST_PACKET
    hardware: bytes = b""

    def subject(self, conversation: Conversation) -> Subject:
        """The subject for conditions."""
        subject = Subject(conversation, self.hardware or None, self.kind, length=self.length)
        subject.moved, subject.shape, subject.fast = self.moved, self.shape, self.fast
        return subject

    def conversation(self) -> Conversation:
        """A new conversation like it."""
        conversation = Conversation(key_of(self.parties))
        conversation.known, conversation.dscps = self.known, self.dscps
        return conversation

    @property
    def plain(self) -> bool:
        """Whether only its parties are known."""
        known = self.known.seen or self.known.names or self.shape or self.moved or self.fast
        return not (known or self.kind or self.hardware) and self.length == LONGEST_PACKET

    def header(self, up: bool) -> bytes:
        """The first bytes of one of its packets: the IP header (RFC 791, RFC 8200) and the ports."""
        parties, dscp = self.parties, self.dscps.bit_length() - 1
        ends, ports = (parties.local, parties.remote), (parties.local_port, parties.remote_port)
        if not up:
            ends, ports = ends[::-1], ports[::-1]
        behind = b"".join(port.to_bytes(2) for port in ports) + bytes(8) + b"\x50" + bytes(7)
        if len(parties.local) == 4:
            first = (
                bytes((0x45, dscp << 2))
                + (20 + len(behind)).to_bytes(2)
                + bytes(4)
                + bytes((64, parties.protocol, 0, 0))
            )
        else:
            first = (6 << 28 | dscp << 22).to_bytes(4) + len(behind).to_bytes(2) + bytes((parties.protocol, 64))
        return first + b"".join(ends) + behind

    def nth(self, number: int) -> "Example":
        """The same from a local port so many higher."""
        return replace(self, parties=self.parties._replace(local_port=self.parties.local_port + number))


def meant(plan: Plan, uplink: str, moment: datetime | None = None) -> Shaper:
    """A shaper that sorts as the plan intends, whatever engine is tried."""
    engine = build_site(plan, lambda _: None)
    if moment is not None:
        engine.at(moment)
    return engine.shapers[uplink, "up"]


def rule_of(shaper: Shaper, example: Example) -> int:
    """The index among the rules in use that an example meets first; -1 for none."""
    return shaper.classifier.rule(example.subject(example.conversation()))


def examples(plan: Plan, terms: Terms) -> Iterator[Example]:
    """Conversations that may match some terms; the classifier decides whether they do."""
    every = (example for others in (False, True) for asked in _choices(terms) for example in _of(plan, asked, others))
    return islice(every, MOST_TRIED)


def _choices(terms: Terms) -> Iterator[dict[str, Any]]:
    """The fields asked for, with one part of each `any`."""
    parts = [list(_choices(part)) for part in terms.all]
    if terms.any:
        parts.append([choice for part in terms.any for choice in _choices(part)])
    for chosen in product(*parts):
        asked = dict(terms.asked)
        for more in chosen:
            asked |= more
        yield asked


def _hosts(addresses: AddressSet) -> Iterator[bytes]:
    """Some addresses of each range, from its middle."""
    for first, last in addresses:
        begin, size = int.from_bytes(first), int.from_bytes(last) - int.from_bytes(first) + 1
        for step in range(min(size, MOST_HOSTS)):
            yield (begin + (size // 2 + step) % size).to_bytes(len(first))


def first_host(plan: Plan) -> bytes | None:
    """An address of a host of the plan, IPv4 if possible."""
    addresses = [next(_hosts(network.addresses), None) for network in plan.networks]
    return min((address for address in addresses if address is not None), key=len, default=None)


def remote_for(plan: Plan, width: int) -> bytes:
    """A remote's address of so many bytes, in no network of the plan."""
    return remotes_for(plan, width)[0]


def remotes_for(plan: Plan, width: int) -> list[bytes]:
    """Several of these, since rules may be about one."""
    known = [remote for remote in REMOTES if len(remote) == width]
    return [remote for remote in known if remote not in plan.hosts] or known


def first_of(addresses: AddressSet, width: int) -> bytes | None:
    """An address of so many bytes among these."""
    parts = (_hosts(AddressSet([part])) for part in addresses if len(part[0]) == width)
    return next((value for part in parts for value in part), None)


def _locals(plan: Plan, asked: dict[str, Any]) -> Iterator[tuple[bytes, bytes]]:
    """Local addresses, each with a hardware address if the terms name one."""
    local, network = asked.get("local"), asked.get("network")
    inside = network.addresses if network is not None else plan.hosts
    if local is None:
        yield from ((address, b"") for address in _hosts(inside))
        return
    yield from ((address, b"") for address in _hosts(local.addresses & inside if network else local.addresses))
    for hardware in sorted(local.members.hardware):
        yield from ((address, hardware) for address in _hosts(inside))


def _signs(asked: dict[str, Any]) -> Iterator[tuple[dict[str, Any], Known, str]]:
    """The signs of a service: a port, a recognised protocol, a name, an address or a shape."""
    services: tuple[Service, ...] = asked["service"].services if "service" in asked else ()
    if not services:
        yield {}, Known(), ""
    for service in services:
        # A rig moves much over TCP only.
        later = [seen for seen in service.seen if "moved" in asked and seen not in OF_TCP]
        for seen in service.seen:
            if seen not in later:
                yield {}, Known(seen), service.shape
        for protocol, (first, _) in service.ports:
            yield {"protocol": (protocol,), "remote-port": ((first, first),)}, Known(), service.shape
        for seen in later:
            yield {}, Known(seen), service.shape
        for name in (*service.names, *sorted(service.remote.names)):
            yield {}, Known("", (name.replace("*.", "a."),)), service.shape
        for address, _ in service.remote.addresses:
            yield {"remote address": address}, Known(), service.shape
        if service.shape and not (service.seen or service.ports or service.names or service.remote):
            yield {}, Known(), service.shape


def _of(plan: Plan, asked: dict[str, Any], others: bool) -> Iterator[Example]:
    """With the usual remote where none is asked for; with `others`, only those with other remotes."""
    remote = asked.get("remote")
    remotes = list(_hosts(remote.addresses)) if remote is not None else []
    names = tuple(name.replace("*.", "a.") for name in sorted(remote.members.names)) if remote is not None else ()
    moved, over = asked.get("moved", (0, False))
    length, longer = asked.get("length", (LONGEST_PACKET, False))
    kinds: int = asked.get("packet", 0)
    part = slice(1, None) if others else slice(1)
    usual = {width: remotes_for(plan, width)[part] for width in (4, 16)}
    for signs, known, shape in _signs(asked):
        conditions = {**signs, **{key: value for key, value in asked.items() if key != "service"}}
        ports = conditions.get("remote-port") or conditions.get("port") or ((REMOTE_PORT, REMOTE_PORT),)
        local_port = conditions.get("local-port", ((LOCAL_PORT, LOCAL_PORT),))[0][0]
        streams = kinds or moved or known.names or names or known.seen in OF_TCP
        protocol = conditions.get("protocol", (1 if kinds & 16 else TCP if streams else UDP,))[0]
        ported = protocol in (TCP, UDP, 33, 132, 136)
        for local, hardware in _locals(plan, asked):
            if asked.get("version") not in (None, 4 if len(local) == 4 else 6):
                continue
            far = [remote for remote in remotes if len(remote) == len(local)]
            if not far and (names or not remotes):
                far = usual[len(local)]
            elif others:
                continue
            if "remote address" in signs:
                far = [signs["remote address"]] if len(signs["remote address"]) == len(local) and not others else []
            for address in far:
                sides = (local_port, ports[0][0]) if ported else (0, 0)
                much = moved + 1 if over else 0
                yield Example(
                    Parties(protocol, local, address, *sides),
                    Known(known.seen, (*known.names, *names)),
                    "bulk" if much > BULK and not shape else shape,  # as it shows when it has moved so much
                    much,
                    EVERY_RATE if "rate" in asked else 0,
                    1 << asked["dscp"][0] if asked.get("dscp") else 1,
                    kinds & -kinds,
                    length + 1 if longer else length,
                    hardware,
                )

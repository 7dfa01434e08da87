"""The table of mappings: the plan's grants, the requests, and the expiry of each mapping.

A host requests a mapping for its port `inside` and gets a port `outside` of the uplink for a while. Over IPv6, where no
address is translated, both are equal, and the outside address is the host's.
"""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from enum import Enum
from hashlib import blake2s
from typing import Final, NamedTuple

from wily_sluice.plan.terms import TRANSPORTS, Grant
from wily_sluice.ports.pcp import Filter
from wily_sluice.units import SECOND, Nanoseconds

MOST_MAPPINGS: Final = 4096
MOST_OF_A_DEVICE: Final = 512
MOST_FILTERS: Final = 8  # of one mapping
SHORTEST: Final = 120  # seconds, where the plan does not say less (RFC 6887 §15)
REVOKED_FOR: Final[Nanoseconds] = 3600 * SECOND


class Refused(Enum):
    """Why there is no mapping, in words for the log."""

    NOT_GRANTED = "the plan does not grant it"
    ELSEWHERE = "it came by the interface of another network"
    SPOOFED = "another device has this address"
    REVOKED = "it was revoked"
    NOT_ITS_OWN = "another program of the host has it, or another device"
    TOO_MANY = "the host has as many as the plan grants"
    TOO_MANY_REMOTES = f"more than {MOST_FILTERS} filters"
    NOT_FREE = "the requested port is not available"
    NONE_FREE = "no port that the plan grants is free"
    NO_ADDRESS = "the uplink has no address"
    FULL = f"there are {MOST_MAPPINGS} mappings already"


class Sender(NamedTuple):
    """Who sent a request: its source address and hardware address, empty where the interface has none; whether its
    network tells hosts apart by address.
    """

    host: bytes
    hardware: bytes = b""
    by_address: bool = False

    @property
    def device(self) -> bytes:
        """The device or address that owns mappings and is counted."""
        return self.host if self.by_address or not self.hardware else self.hardware


@dataclass(frozen=True, slots=True)
class Wish:
    """A host's request. `outside` and `external` are the port and address it would like, 0 and empty for no preference;
    it may `insist` on them. `lifetime` is in seconds.
    """

    sender: Sender
    protocol: int
    inside: int
    lifetime: int
    by: str
    outside: int = 0
    external: bytes = b""
    nonce: bytes = b""
    insists: bool = False
    filters: tuple[Filter, ...] = ()
    anew: bool = False

    @property
    def host(self) -> bytes:
        """The source address."""
        return self.sender.host


@dataclass(frozen=True, slots=True)
class PortMapping:
    """A port that is open. It `ends` on the book's clock, and its `sender` requested it `by` PCP or NAT-PMP."""

    sender: Sender
    protocol: int
    inside: int
    outside: int
    external: bytes
    ends: Nanoseconds
    grant: str
    uplink: str
    service: str
    by: str
    nonce: bytes
    filters: tuple[Filter, ...] = ()

    @property
    def host(self) -> bytes:
        """The address inside."""
        return self.sender.host

    @property
    def key(self) -> tuple[bytes, int, int]:
        """Its key among mappings."""
        return self.host, self.protocol, self.inside

    def left(self, now: Nanoseconds) -> int:
        """In seconds, rounded up."""
        return max(0, -((now - self.ends) // SECOND))


Barred = tuple[bytes, int | None, int | None]  # a device or address, a protocol and a port; None is any


class Book:
    """Of one gate. `external` says the IPv4 address of an uplink, empty for none; `busy` on which ports this machine
    itself listens, with their protocols.
    """

    def __init__(self, external: Callable[[str], bytes], busy: Callable[[], set[tuple[int, int]]]) -> None:
        self._external = external
        self._busy = busy
        self._grants: tuple[Grant, ...] = ()
        self.mappings: dict[tuple[bytes, int, int], PortMapping] = {}
        self._revoked: dict[Barred, Nanoseconds] = {}

    def follow(self, grants: tuple[Grant, ...]) -> list[PortMapping]:
        """Use these grants. Returns the mappings that end, since no grant covers them."""
        self._grants = grants
        self._revoked.clear()
        ended = []
        for mapping in list(self.mappings.values()):
            mac = mapping.sender.hardware
            grant = next(
                (grant for grant in grants if _is_for(grant, mapping.host, mac, mapping.protocol, mapping.inside)), None
            )
            if (
                grant is None
                or grant.uplink != mapping.uplink
                or not _granted(grant, mapping.protocol, mapping.outside)
            ):
                ended.append(self.mappings.pop(mapping.key))
            else:
                self.mappings[mapping.key] = replace(mapping, grant=grant.name, service=grant.service)
        return ended

    def ask(self, wish: Wish, now: Nanoseconds) -> PortMapping | Refused:
        """Open a port, or keep it open for longer."""
        key = wish.host, wish.protocol, wish.inside
        before = self.mappings.get(key)
        if self._barred(wish, now):
            return Refused.REVOKED
        if before is not None and (before.nonce != wish.nonce or before.sender.device != wish.sender.device):
            return Refused.NOT_ITS_OWN
        why = Refused.NOT_GRANTED
        for grant in self._grants:
            if wish.inside and _is_for(grant, wish.host, wish.sender.hardware, wish.protocol, wish.inside):
                mapping = self._open(grant, wish, before, now)
                if isinstance(mapping, PortMapping):
                    self.mappings[key] = mapping
                    return mapping
                why = mapping
        return why

    def _open(self, grant: Grant, wish: Wish, before: PortMapping | None, now: Nanoseconds) -> PortMapping | Refused:
        six = len(wish.host) == 16
        external = wish.host if six else self._external(grant.uplink)
        if not external:
            return Refused.NO_ADDRESS
        if wish.insists and any(wish.external) and wish.external != external:
            return Refused.NOT_FREE
        if before is not None and before.uplink == grant.uplink:
            outside = before.outside
        else:
            held = [mapping for mapping in self.mappings.values() if mapping.sender.device == wish.sender.device]
            of_grant = sum(mapping.grant == grant.name and (len(mapping.host) == 16) == six for mapping in held)
            if of_grant >= grant.count or len(held) >= MOST_OF_A_DEVICE:
                return Refused.TOO_MANY
            if len(self.mappings) >= MOST_MAPPINGS:
                return Refused.FULL
            outside = wish.inside if six else self._choose(grant, wish)
        if not outside:
            return Refused.NOT_FREE if wish.insists and wish.outside else Refused.NONE_FREE
        if wish.insists and wish.outside not in (0, outside):
            return Refused.NOT_FREE
        filters = wish.filters if before is None or wish.anew else (*before.filters, *wish.filters)
        filters = tuple(dict.fromkeys(filters))
        if len(filters) > MOST_FILTERS:
            return Refused.TOO_MANY_REMOTES
        most = grant.lifetime // SECOND
        lifetime = min(max(wish.lifetime, SHORTEST), most)
        return PortMapping(
            wish.sender,
            wish.protocol,
            wish.inside,
            outside,
            external,
            now + lifetime * SECOND,
            grant.name,
            grant.uplink,
            grant.service,
            wish.by,
            wish.nonce,
            filters,
        )

    def _choose(self, grant: Grant, wish: Wish) -> int:
        """A port outside: the one requested, the host's own, or one that is the same for each of its requests."""
        others = {
            (mapping.protocol, mapping.outside)
            for mapping in self.mappings.values()
            if len(mapping.host) == 4
            and mapping.uplink == grant.uplink
            and mapping.key != (wish.host, wish.protocol, wish.inside)
        }
        # The host with a port of one protocol may want the same port of the other (RFC 6886 §3.3).
        foreign = {
            mapping.outside
            for mapping in self.mappings.values()
            if len(mapping.host) == 4 and mapping.host != wish.host and mapping.uplink == grant.uplink
        }
        busy = self._busy() | others

        def free(port: int) -> bool:
            return _granted(grant, wish.protocol, port) and (wish.protocol, port) not in busy and port not in foreign

        if wish.insists and wish.outside:
            return wish.outside if free(wish.outside) else 0
        return next((port for port in (wish.outside, wish.inside, *_in_turn(grant, wish)) if free(port)), 0)

    def end(self, sender: Sender, protocol: int, inside: int, nonce: bytes) -> list[PortMapping] | Refused:
        """End a mapping at the request of who has it: all of a protocol if `inside` is 0, and all if both are."""
        host, device = sender.host, sender.device
        if inside:
            before = self.mappings.get((host, protocol, inside))
            if before is None:
                return []
            if before.nonce != nonce or before.sender.device != device:
                return Refused.NOT_ITS_OWN
            del self.mappings[before.key]
            return [before]
        return self._take(
            mapping
            for mapping in self.mappings.values()
            if (mapping.host, mapping.nonce, mapping.sender.device) == (host, nonce, device)
            and mapping.protocol in (protocol or mapping.protocol,)
        )

    def expire(self, now: Nanoseconds) -> list[PortMapping]:
        """End mappings that have expired."""
        self._revoked = {key: until for key, until in self._revoked.items() if until > now}
        return self._take(mapping for mapping in self.mappings.values() if mapping.ends <= now)

    def revoke(self, host: bytes, protocol: int | None, inside: int | None, now: Nanoseconds) -> list[PortMapping]:
        """End a host's mappings, and refuse the same requests until they would have ended, for an hour at least: all
        ports, those of a protocol, or one.
        """
        ended = self._take(
            mapping
            for mapping in self.mappings.values()
            if mapping.host == host and protocol in (None, mapping.protocol) and inside in (None, mapping.inside)
        )
        until = max((now + REVOKED_FOR, *(mapping.ends for mapping in ended)))
        for who in {host, *(mapping.sender.device for mapping in ended)}:
            self._revoked[who, protocol, inside] = until
        return ended

    def _barred(self, wish: Wish, now: Nanoseconds) -> bool:
        return any(
            self._revoked.get((who, protocol, inside), now) > now
            for who in {wish.host, wish.sender.device}
            for protocol in (None, wish.protocol)
            for inside in (None, wish.inside)
        )

    def drop(self, mapping: PortMapping) -> None:
        """Take back a mapping that the kernel refused."""
        if self.mappings.get(mapping.key) == mapping:
            del self.mappings[mapping.key]

    def _take(self, mappings: Iterable[PortMapping]) -> list[PortMapping]:
        taken = list(mappings)
        for mapping in taken:
            del self.mappings[mapping.key]
        return taken


def _is_for(grant: Grant, host: bytes, hardware: bytes, protocol: int, inside: int) -> bool:
    """Whether a grant applies to a host and its port."""
    who = host in grant.local.addresses or hardware in grant.local.members.hardware
    return who and protocol in TRANSPORTS and _granted(grant, protocol, inside)


def _granted(grant: Grant, protocol: int, port: int) -> bool:
    return any(first <= port <= last for first, last in grant.ports.get(protocol, ()))


def _in_turn(grant: Grant, wish: Wish) -> Iterator[int]:
    """All ports of a grant, beginning with one that depends on the host."""
    spans = grant.ports[wish.protocol]
    total = sum(last - first + 1 for first, last in spans)
    seed = blake2s(wish.host + bytes((wish.protocol,)) + wish.inside.to_bytes(2), digest_size=4).digest()
    start = int.from_bytes(seed) % total
    for number in range(total):
        left = (start + number) % total
        for first, last in spans:
            if left <= last - first:
                yield first + left
                break
            left -= last - first + 1

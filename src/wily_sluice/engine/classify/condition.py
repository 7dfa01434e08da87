"""Conditions of rules and limiters: single questions about a conversation, and combinations.

Every condition has a `field`, its key in the plan file, so that an explanation can name the field that does not match.
"""

from typing import Final

from wily_sluice.engine.classify.addresses import AddressSet, NameSet
from wily_sluice.engine.classify.header import Parties
from wily_sluice.engine.classify.service import NOTHING, Known, Service
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.units import Size

LONGEST_PACKET: Final[Size] = 65_535  # RFC 791 §3.1


class Subject:
    """Everything that conditions can ask: a conversation in its present state, and the `kind` and `length` of a packet.

    `hardware` is the local party's hardware address, if known; `host` the address that represents its device. A
    conversation with a `home` address is treated as if that were its local address; or its host's address, if the host
    is in the same network (`own`).
    """

    __slots__ = ("dscps", "fast", "hardware", "host", "kind", "known", "length", "moved", "parties", "shape")

    def __init__(
        self,
        conversation: Conversation,
        hardware: bytes | None = None,
        kind: int = 0,
        host: bytes = b"",
        length: Size = LONGEST_PACKET,
        own: bool = False,
    ) -> None:
        parties = conversation.parties
        home = conversation.home
        if home:
            if own:
                home = host
            remote = parties.remote if len(home) == len(parties.remote) else bytes(len(home))
            parties = Parties(parties.protocol, home, remote, parties.local_port, parties.remote_port)
            host = host or home
        self.parties: Parties = parties
        self.host = host or parties.local
        self.dscps = conversation.dscps
        self.known: Known = conversation.known or NOTHING
        self.kind = kind
        self.length = length
        self.hardware = hardware
        watch = conversation.watch
        self.moved: Size = watch.moved if watch is not None else 0
        self.fast: int = watch.fast if watch is not None else 0
        self.shape: str = watch.shape if watch is not None else ""


class Clock:
    """Which schedules hold now, as bits."""

    __slots__ = ("open",)

    def __init__(self) -> None:
        self.open = -1  # all, until the time is known


class Condition:
    """Something that a conversation is, or is not."""

    __slots__ = ("field",)

    def __init__(self, field: str) -> None:
        self.field = field

    def holds(self, subject: Subject) -> bool:
        """Whether the subject meets it."""
        raise NotImplementedError

    def fails(self, subject: Subject) -> str:
        """The field that the subject does not meet; empty when it meets all."""
        return "" if self.holds(subject) else self.field


class LocalIs(Condition):
    """The local party matches by its IP address or its hardware address."""

    __slots__ = ("addresses", "hardware")

    def __init__(self, addresses: AddressSet, hardware: frozenset[bytes] = frozenset(), field: str = "local") -> None:
        self.field = field
        self.addresses = addresses
        self.hardware = hardware

    def holds(self, subject: Subject) -> bool:
        """Look for the local address, then for the hardware address."""
        return subject.parties.local in self.addresses or (
            subject.hardware is not None and subject.hardware in self.hardware
        )


class RemoteIs(Condition):
    """The remote matches by its address or a known name."""

    __slots__ = ("addresses", "names")

    def __init__(self, addresses: AddressSet, names: NameSet | None = None) -> None:
        self.field = "remote"
        self.addresses = addresses
        self.names = names

    def holds(self, subject: Subject) -> bool:
        """Look for the remote address, then for any of its names."""
        if subject.parties.remote in self.addresses:
            return True
        return self.names is not None and bool(self.names.any_of(subject.known.names))


class ProtocolIs(Condition):
    """The protocol number is in this set."""

    __slots__ = ("protocols",)

    def __init__(self, protocols: frozenset[int]) -> None:
        self.field = "protocol"
        self.protocols = protocols

    def holds(self, subject: Subject) -> bool:
        """Compare the protocol number."""
        return subject.parties.protocol in self.protocols


class PortIs(Condition):
    """A port is in one of the ranges, inclusive: the local port, the remote port, or either."""

    __slots__ = ("local", "ranges", "remote")

    def __init__(self, ranges: tuple[tuple[int, int], ...], local: bool = True, remote: bool = True) -> None:
        self.field = "port" if local and remote else "local-port" if local else "remote-port"
        self.ranges = ranges
        self.local = local
        self.remote = remote

    def holds(self, subject: Subject) -> bool:
        """Compare the ports of the sides that count."""
        for first, last in self.ranges:
            if self.local and first <= subject.parties.local_port <= last:
                return True
            if self.remote and first <= subject.parties.remote_port <= last:
                return True
        return False


class DscpIs(Condition):
    """The conversation has carried a DSCP of this set, given as bits, in either direction."""

    __slots__ = ("dscps",)

    def __init__(self, dscps: int) -> None:
        self.field = "dscp"
        self.dscps = dscps

    def holds(self, subject: Subject) -> bool:
        """Compare the DSCPs that it has carried."""
        return bool(self.dscps & subject.dscps)


class VersionIs(Condition):
    """Matches one version of IP."""

    __slots__ = ("version",)

    def __init__(self, version: int) -> None:
        self.field = "version"
        self.version = version

    def holds(self, subject: Subject) -> bool:
        """Tell by the length of the local address."""
        return (len(subject.parties.local) == 4) == (self.version == 4)


class ServiceIs(Condition):
    """Matches a service of this set."""

    __slots__ = ("services",)

    def __init__(self, services: tuple[Service, ...]) -> None:
        self.field = "service"
        self.services = services

    def holds(self, subject: Subject) -> bool:
        """Ask each service for a sign."""
        return any(service.sign(subject.parties, subject.known, subject.shape) for service in self.services)


class MovedIs(Condition):
    """It has moved more than a size, or not; in bytes."""

    __slots__ = ("over", "size")

    def __init__(self, size: Size, over: bool) -> None:
        self.field = "moved"
        self.size = size
        self.over = over

    def holds(self, subject: Subject) -> bool:
        """Compare the bytes that it has moved."""
        return (subject.moved > self.size) == self.over


class FastIs(Condition):
    """One of the rates that are watched holds: the one with this index among them."""

    __slots__ = ("index",)

    def __init__(self, index: int) -> None:
        self.field = "rate"
        self.index = index

    def holds(self, subject: Subject) -> bool:
        """Test the bit of the watched rate."""
        return bool(subject.fast >> self.index & 1)


class KindIs(Condition):
    """The packet is of a kind in this set, given as bits."""

    __slots__ = ("kinds",)

    def __init__(self, kinds: int) -> None:
        self.field = "packet"
        self.kinds = kinds

    def holds(self, subject: Subject) -> bool:
        """Test the bits of the kinds."""
        return bool(self.kinds & subject.kind)


class LengthIs(Condition):
    """The packet is longer than a size in bytes, or is not."""

    __slots__ = ("over", "size")

    def __init__(self, size: Size, over: bool) -> None:
        self.field = "length"
        self.size = size
        self.over = over

    def holds(self, subject: Subject) -> bool:
        """Compare the length."""
        return (subject.length > self.size) == self.over


class WhenIs(Condition):
    """The schedule with this index among the plan's holds now."""

    __slots__ = ("clock", "index")

    def __init__(self, clock: Clock, index: int) -> None:
        self.field = "when"
        self.clock = clock
        self.index = index

    def holds(self, subject: Subject) -> bool:
        """Test the bit of the schedule."""
        return bool(self.clock.open >> self.index & 1)


class All(Condition):
    """True if all conditions hold, or there are none."""

    __slots__ = ("parts",)

    def __init__(self, parts: tuple[Condition, ...] = (), field: str = "all") -> None:
        self.field = field
        self.parts = parts

    def holds(self, subject: Subject) -> bool:
        """Ask each part until one fails."""
        return all(part.holds(subject) for part in self.parts)

    def fails(self, subject: Subject) -> str:
        """The first field that the subject does not meet; empty when it meets all."""
        for part in self.parts:
            failed = part.fails(subject)
            if failed:
                return failed
        return ""


class AnyOf(Condition):
    """True if a condition holds; false if there are none."""

    __slots__ = ("parts",)

    def __init__(self, parts: tuple[Condition, ...] = (), field: str = "any") -> None:
        self.field = field
        self.parts = parts

    def holds(self, subject: Subject) -> bool:
        """Ask each part until one holds."""
        return any(part.holds(subject) for part in self.parts)


class Not(Condition):
    """This does not hold."""

    __slots__ = ("part",)

    def __init__(self, part: Condition) -> None:
        self.field = "not"
        self.part = part

    def holds(self, subject: Subject) -> bool:
        """Ask the part, and say the opposite."""
        return not self.part.holds(subject)

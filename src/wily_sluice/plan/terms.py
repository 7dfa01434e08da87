"""What rules, limiters and grants ask for."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple, TypeAlias

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.header import TCP, UDP
from wily_sluice.units import Nanoseconds, Rate, Size

NOBODY = AddressSet()
PortWords: TypeAlias = tuple[tuple[int | None, tuple[int, int]], ...]  # protocols, where said, with ranges


@dataclass(frozen=True, slots=True)
class Members:
    """A set of hosts: by `addresses` or by `hardware` addresses."""

    addresses: AddressSet = NOBODY
    hardware: frozenset[bytes] = frozenset()
    ports: PortWords = ()
    names: frozenset[str] = frozenset()  # of remotes: host names, and patterns of them

    def __or__(self, other: "Members") -> "Members":
        if not self:
            return other
        return Members(
            self.addresses | other.addresses,
            self.hardware | other.hardware,
            (*self.ports, *other.ports),
            self.names | other.names,
        )

    def __sub__(self, other: "Members") -> "Members":
        return Members(
            self.addresses - other.addresses, self.hardware - other.hardware, self.ports, self.names - other.names
        )

    def __bool__(self) -> bool:
        return bool(self.addresses or self.hardware or self.ports or self.names)


@dataclass(frozen=True, slots=True)
class Party:
    """A party: the words in the plan, and the hosts that match."""

    words: tuple[str, ...]
    members: Members

    @property
    def addresses(self) -> AddressSet:
        """The addresses of these hosts."""
        return self.members.addresses

    @property
    def is_one_host(self) -> bool:
        """Whether that is a single address."""
        ranges, hardware = list(self.members.addresses), self.members.hardware
        return len(ranges) + len(hardware) == 1 and all(first == last for first, last in ranges)


@dataclass(frozen=True, slots=True)
class Service:
    """The signs of a service, as in `classify.service`.

    `ports` are the remote's, by protocol number; `own` means that the user defined the service.
    """

    name: str
    category: str
    about: str = ""
    ports: tuple[tuple[int, tuple[int, int]], ...] = ()
    seen: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    remote: Members = Members()
    shape: str = ""
    over: tuple[str, ...] = ()
    own: bool = False


class Services(NamedTuple):
    """Services, and the plan's words for them."""

    words: tuple[str, ...]
    services: tuple[Service, ...]


@dataclass(frozen=True, slots=True)
class Terms:
    """Conditions on a conversation. `asked` has the fields that are set, by key: all must match, and a list matches if
    one entry does.

    `none` are the terms of `not`. The properties are for code that needs a single field; `fields` describes its value.
    """

    asked: Mapping[str, Any] = field(default_factory=dict)
    any: tuple["Terms", ...] = ()
    all: tuple["Terms", ...] = ()
    none: tuple["Terms", ...] = ()

    @property
    def local(self) -> Party | None:
        """The local party."""
        return self.asked.get("local")

    @property
    def remote(self) -> Party | None:
        """The remote party."""
        return self.asked.get("remote")

    @property
    def networks(self) -> Party | None:
        """The networks that the local party is in."""
        return self.asked.get("network")

    @property
    def services(self) -> tuple[Service, ...] | None:
        """The services it belongs to."""
        return self.asked["service"].services if "service" in self.asked else None

    @property
    def service_words(self) -> tuple[str, ...]:
        """The services in the plan's words."""
        return self.asked["service"].words if "service" in self.asked else ()

    @property
    def protocols(self) -> tuple[int, ...] | None:
        """The protocols above IP."""
        return self.asked.get("protocol")

    @property
    def ports(self) -> tuple[tuple[int, int], ...] | None:
        """Ports of either side."""
        return self.asked.get("port")

    @property
    def local_ports(self) -> tuple[tuple[int, int], ...] | None:
        """Ports of the local side."""
        return self.asked.get("local-port")

    @property
    def remote_ports(self) -> tuple[tuple[int, int], ...] | None:
        """Ports of the remote side."""
        return self.asked.get("remote-port")

    @property
    def version(self) -> int | None:
        """The version of IP."""
        return self.asked.get("version")

    @property
    def moved(self) -> tuple[Size, bool] | None:
        """How much it has moved, and whether it must be over that."""
        return self.asked.get("moved")

    @property
    def rate(self) -> tuple[Rate, Nanoseconds] | None:
        """How fast it has run, and for how long."""
        return self.asked.get("rate")

    @property
    def kinds(self) -> int:
        """Kinds of packets, as bits."""
        kinds: int = self.asked.get("packet", 0)
        return kinds

    @property
    def when(self) -> str | None:
        """The schedule during which they apply."""
        return self.asked.get("when")

    def without(self, key: str) -> "Terms":
        """The same without one field."""
        return replace(self, asked={word: value for word, value in self.asked.items() if word != key})

    @property
    def anyone(self) -> bool:
        """Whether every conversation meets them."""
        return self == Terms()

    def walk(self) -> Iterator["Terms"]:
        """These, and all within them."""
        yield self
        for part in (*self.any, *self.all, *self.none):
            yield from part.walk()


TRANSPORTS = {TCP: "tcp", UDP: "udp"}  # those whose ports can be opened


@dataclass(frozen=True, slots=True)
class Grant:
    """Permission for hosts to open ports in these ranges, inside and outside: a number per host, and a lifetime.

    `ports` has ranges by protocol number. `uplink` is the uplink whose ports are opened; `service` the service of their
    traffic, or empty.
    """

    name: str
    index: int
    local: Party
    ports: dict[int, tuple[tuple[int, int], ...]]
    count: int
    lifetime: Nanoseconds
    uplink: str
    service: str = ""
    enabled: bool = True
    note: str = ""

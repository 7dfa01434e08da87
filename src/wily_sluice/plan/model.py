"""The plan, read, with its references resolved: the checks, the forecast, the gate and the views all work from it."""

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any, Generic, Literal, TypeAlias, TypeVar

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.neighbours import GATEWAY
from wily_sluice.engine.limit.limiter import Excess, LimiterSpec, Per, waiting_burst
from wily_sluice.engine.packet import ETHERNET, LARGEST_PACKET, LONGEST_FRAME, Framing, Wrapping
from wily_sluice.engine.queueing.spec import Discipline, LeafSpec
from wily_sluice.plan.file.document import Document
from wily_sluice.plan.mark_field import USUAL_MARKS, MarkField
from wily_sluice.plan.schedules.schedule import Schedule
from wily_sluice.plan.terms import Grant, Members, Party, Service, Services, Terms
from wily_sluice.units import BYTE_TIME, DIRECTIONS, MILLISECOND, Amount, Direction, Nanoseconds, Rate, Size

T = TypeVar("T")
HostsBy: TypeAlias = Literal["device", "address"]
Period: TypeAlias = Literal["month", "week", "day"]
USUAL_HEADROOM = 0.08  # of what a line measured
UNMEASURED = 0.85  # of the advertised rate is used until somebody has measured
USUAL_ROUND_TRIP: Nanoseconds = 50 * MILLISECOND


@dataclass(frozen=True, slots=True)
class Directional(Generic[T]):
    """A value for each direction; None where the person gave none."""

    up: T | None
    down: T | None

    def of(self, direction: Direction) -> T | None:
        """The value for a direction."""
        return self.up if direction == "up" else self.down


@dataclass(frozen=True, slots=True)
class RateSpan:
    """The rate of a line, in bit/s; of one that varies the highest, with the lowest."""

    highest: Rate
    lowest: Rate | None = None


@dataclass(frozen=True, slots=True)
class FramingWords:
    """A framing, and how the plan says it."""

    framing: Framing
    words: str


@dataclass(frozen=True, slots=True)
class Probing:
    """Remotes that must answer over an uplink, `within` a time; it fails when `lost` pings in a row get no answer."""

    remotes: tuple[str, ...]
    within: Nanoseconds
    lost: int


@dataclass(frozen=True, slots=True)
class Uplink:
    """A connection to the internet. `down` and `up` are the measured rates in bit/s; `headroom` is the part left free.

    `tree` is the name of its tree in each direction. `advertised` are the contract's rates; `honours_marks` means that
    the provider acts on DSCPs.
    """

    name: str
    interface: str
    down: Rate
    up: Rate
    headroom: Directional[float]
    framed: FramingWords = FramingWords(ETHERNET, "ethernet")
    tree: Directional[str] = Directional(None, None)
    advertised: Directional[Rate] = Directional(None, None)
    honours_marks: bool = False
    probing: Probing | None = None
    next_hops: tuple[str, ...] = ()
    lowest: Directional[Rate] = Directional(None, None)
    refuses: frozenset[str] = frozenset()  # paths of leaves

    def at(self, direction: Direction, rate: Rate) -> "Uplink":
        """The same line, when it measures that much in a direction."""
        return replace(self, up=rate) if direction == "up" else replace(self, down=rate)

    @property
    def framing(self) -> Framing:
        """The cost of a packet on the line."""
        return self.framed.framing

    def goodput(self, rate: float, length: Size = LARGEST_PACKET, headers: Size = 52) -> float:
        """The goodput at a rate of frames, both in bit/s, with packets of this length less headers.

        52 bytes are those of TCP over IPv4, with timestamps.
        """
        return rate * (length - headers) / self.framing.cost(length)

    def measured(self, direction: Direction) -> Rate:
        """The measured rate in bit/s."""
        return self.up if direction == "up" else self.down

    def usable(self, direction: Direction) -> Rate:
        """The measured rate minus headroom, in bit/s; at least 1."""
        return max(1, round(self.measured(direction) * (1 - (self.headroom.of(direction) or 0))))


@dataclass(frozen=True, slots=True)
class Tunnel:
    """A tunnel that ends on this machine. `uplink` carries it; `protocol`, `ports` and `remotes` tell its packets from
    others there; `remotes` is empty if any address may be its far end. `protocol` is None for IP in IP.
    """

    name: str
    interface: str
    uplink: str
    words: str
    wrapping: Wrapping
    protocol: int | None
    ports: tuple[int, ...]
    remotes: tuple[str, ...]
    next_hops: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Network:
    """Hosts behind one interface of the gateway."""

    name: str
    interface: str
    subnets: tuple[str, ...]
    addresses: AddressSet
    hosts: HostsBy = "device"  # what a host is: a device with all its addresses, or each address


@dataclass(frozen=True, slots=True)
class Queue:
    """A queue of the tree, as planned; a leaf when it has no children."""

    name: str
    path: str
    guarantee: Directional[Amount]
    cap: Directional[Amount]
    priority: int
    weight: float
    default: bool
    discipline: Discipline
    leaf: LeafSpec
    children: tuple["Queue", ...] = ()

    def walk(self) -> Iterator["Queue"]:
        """This queue and all below it, parents before children."""
        yield self
        for child in self.children:
            yield from child.walk()


@dataclass(frozen=True, slots=True)
class Tree:
    """A tree of queues."""

    name: str
    discipline: Discipline
    queues: tuple[Queue, ...]

    def walk(self) -> Iterator[Queue]:
        """All queues, parents before children."""
        for queue in self.queues:
            yield from queue.walk()

    @property
    def leaves(self) -> tuple[Queue, ...]:
        """The queues that hold packets, in the order of the plan."""
        return tuple(queue for queue in self.walk() if not queue.children)

    @property
    def default(self) -> Queue:
        """The leaf for conversations that no rule matches, in a tree without errors."""
        return next(leaf for leaf in self.leaves if leaf.default)


@dataclass(frozen=True, slots=True)
class Burst:
    """A burst: bytes, or time at the rate. Exactly one is set."""

    size: Size | None = None
    time: Nanoseconds | None = None

    def of(self, rate: Rate) -> Size:
        """In bytes, at least 1."""
        return self.size if self.size is not None else max(1, rate * (self.time or 0) // BYTE_TIME)


@dataclass(frozen=True, slots=True)
class Quota:
    """Bytes, both ways together, in a period."""

    size: Size
    period: Period


@dataclass(frozen=True, slots=True)
class Limiter:
    """A cap for all traffic that it matches. Rates in bit/s; None where a direction is not capped or nothing was given.

    `quota_from` is the part of the quota after which it holds; `starts` the day of the month, from 1, or of the week,
    from 0 for Monday, on which the period begins.
    """

    name: str
    local: Party | None
    remote: Party | None
    protocols: tuple[int, ...] | None
    ports: tuple[tuple[int, int], ...] | None
    uplink: str | None
    per: Per
    down: Rate | None
    up: Rate | None
    burst: Burst | None
    round_trip: Nanoseconds
    excess: Excess
    dscp: int
    excess_burst: Burst | None
    peak: Directional[Rate]
    threshold: float | None
    when: str | None
    quota: Quota | None
    quota_from: float
    starts: int
    enabled: bool
    note: str
    services: tuple[Service, ...] | None = None
    service_words: tuple[str, ...] = ()
    transports: tuple[Terms, ...] = ()  # blocks for ports with several transports
    network: Party | None = None

    @property
    def hosts(self) -> Party | None:
        """The hosts that it names, those in its networks alone; None if it names none. Whether a host with a hardware
        address is in one of them is not known here.
        """
        if self.local is None or self.network is None:
            return self.local or self.network
        members = replace(self.local.members, addresses=self.local.addresses & self.network.addresses)
        return Party((*self.local.words, f"in {' or '.join(self.network.words)}"), members)

    @property
    def terms(self) -> Terms:
        """The traffic it names, apart from the uplink and the schedule."""
        asked: dict[str, Any] = {
            "local": self.local,
            "network": self.network,
            "remote": self.remote,
            "protocol": self.protocols,
            "port": self.ports,
        }
        if self.services is not None:
            asked["service"] = Services(self.service_words, self.services)
        return Terms({key: value for key, value in asked.items() if value is not None}, all=self.transports)

    def rate(self, direction: Direction) -> Rate | None:
        """The cap in one direction."""
        return self.up if direction == "up" else self.down

    def spec(self, direction: Direction) -> LimiterSpec | None:
        """Its specification for one direction; None where it does not cap it."""
        rate = self.rate(direction)
        if rate is None or not self.enabled:
            return None
        peak = self.peak.of(direction)
        return LimiterSpec(
            self.name,
            rate,
            self.per,
            self.burst_of(rate),
            self.excess,
            self.second_burst(rate, peak),
            peak,
            self.dscp,
            self.threshold,
            round(self.quota.size * self.quota_from) if self.quota is not None else None,
        )

    def burst_of(self, rate: Rate) -> Size:
        """The burst in bytes: as given, or worked out from the rate and the round trip."""
        if self.burst is not None:
            return self.burst.of(rate)
        if self.excess == "wait":
            return waiting_burst(rate)
        return policing_burst(rate, self.round_trip)

    def second_burst(self, rate: Rate, peak: Rate | None) -> Size:
        """The excess burst in bytes; with a peak, the burst at the peak."""
        if self.excess_burst is not None:
            return self.excess_burst.of(peak or rate)
        return self.burst_of(rate) if peak is not None else 0


def policing_burst(rate: Rate, round_trip: Nanoseconds) -> Size:
    """The burst that a dropping limiter needs so that TCP with this round trip reaches its rate.

    TCP sends a window in bursts, halves it on loss, and then regains one packet a round trip: it needs two round trips
    at the rate, and at least ten full frames.
    """
    return max(2 * rate * round_trip // BYTE_TIME, 10 * LONGEST_FRAME)


@dataclass(frozen=True, slots=True)
class Rule:
    """Sorts conversations into a leaf. `index` is its position in the file's list, from 0.

    `queues` has the leaf's path in each tree that has it; in other trees, the default is used. `mark` is the DSCP to
    write into their packets.
    """

    name: str
    index: int
    terms: Terms
    queues: dict[str, str]
    mark: int | None = None
    enabled: bool = True
    note: str = ""


@dataclass(frozen=True, slots=True)
class Budget:
    """A condition: less than a share of a limiter's quota has been used in its period."""

    share: float
    limiter: str


@dataclass(frozen=True, slots=True)
class Route:
    """Sends conversations over an uplink or a tunnel. `index` is its position in the file's list, from 0. `shares` are
    their names with weights, as long as the `budget` lasts; `otherwise` is used while they are all down.
    """

    name: str
    index: int
    terms: Terms
    shares: tuple[tuple[str, float], ...]
    otherwise: str | None = None
    enabled: bool = True
    note: str = ""
    budget: Budget | None = None


@dataclass(frozen=True, slots=True)
class HostNaming:
    """Further sources of host names: files of leases, and the reverse zone of the name service."""

    leases: tuple[str, ...] = ()
    reverse: bool = False


@dataclass(frozen=True, slots=True)
class GateSettings:
    """Settings of the gate itself. `watchers` is `everyone` or a group of users; None for root only.

    `metrics` is the local port for metrics, or None. `probe` are remotes that must keep answering during a trial.
    `keep_contacts` is how long names that hosts contacted are kept, or None. `notify` is a URL or a command for
    notices; `ipfix` is the address and port of a flow collector. `marks` are the firewall marks of routes.
    """

    watchers: str | None = None
    metrics: int | None = None
    probe: tuple[str, ...] = ()
    keep_contacts: Nanoseconds | None = None
    notify: str | None = None
    names: HostNaming = HostNaming()
    ipfix: tuple[str, int] | None = None
    marks: MarkField = USUAL_MARKS


@dataclass(frozen=True, slots=True)
class Plan:
    """A whole plan. `services` are the person's own, and those others that a rule or a limiter names; `named_hosts` are
    single hosts by their names.
    """

    document: Document
    site: str
    timezone: str
    uplinks: tuple[Uplink, ...]
    networks: tuple[Network, ...]
    groups: dict[str, Members]
    trees: dict[str, Tree]
    schedules: dict[str, Schedule]
    limiters: tuple[Limiter, ...]
    rules: tuple[Rule, ...]
    services: dict[str, Service]
    gate: GateSettings = GateSettings()
    named_hosts: dict[str, Members] = field(default_factory=dict)
    tunnels: tuple[Tunnel, ...] = ()
    routes: tuple[Route, ...] = ()
    grants: tuple[Grant, ...] = ()
    steady: Party | None = None  # hosts whose ports are kept through translation

    @property
    def sorting(self) -> tuple[Rule, ...]:
        """The rules that are not switched off."""
        return tuple(rule for rule in self.rules if rule.enabled)

    @property
    def asking(self) -> tuple["Rule | Route", ...]:
        """Everything that matches conversations."""
        return (*self.rules, *self.routes)

    @property
    def lines(self) -> tuple["Uplink | Tunnel", ...]:
        """All lines that routes may choose: the uplinks, then the tunnels."""
        return (*self.uplinks, *self.tunnels)

    @property
    def routing(self) -> tuple[Route, ...]:
        """The routes that are not switched off."""
        return tuple(route for route in self.routes if route.enabled)

    def tree(self, uplink: Uplink, direction: Direction) -> Tree:
        """The tree of an uplink in a direction."""
        name = uplink.tree.of(direction)
        assert name is not None
        return self.trees[name]

    def trees_of(self, uplink: Uplink) -> list[tuple[Tree, tuple[Direction, ...]]]:
        """The trees of an uplink, each with its directions; one tree if it is the same for both."""
        names = {uplink.tree.of(direction): self.tree(uplink, direction) for direction in DIRECTIONS}
        return [(tree, tuple(d for d in DIRECTIONS if uplink.tree.of(d) == name)) for name, tree in names.items()]

    @property
    def granting(self) -> tuple[Grant, ...]:
        """The grants that are not switched off."""
        return tuple(grant for grant in self.grants if grant.enabled)

    @property
    def hosts(self) -> AddressSet:
        """All addresses of all networks, and the gateway's; empty without a network."""
        inside = AddressSet(part for network in self.networks for part in network.addresses)
        return inside | GATEWAY.addresses if inside else inside

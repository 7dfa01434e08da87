"""The plan, read and with its references followed: what the checks, the forecast, the gate and the views work from."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Generic, TypeVar

from wily_sluice.engine.addresses import AddressSet
from wily_sluice.engine.framing import ETHERNET, LARGEST_PACKET, Framing
from wily_sluice.engine.spec import Discipline, LeafSpec
from wily_sluice.plan.document import Document
from wily_sluice.units import DIRECTIONS, Amount, Direction, Rate, Size

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Directional(Generic[T]):
    """A value for each direction; None where the person gave none."""

    up: T | None
    down: T | None

    def of(self, direction: Direction) -> T | None:
        """The value for a direction."""
        return self.up if direction == "up" else self.down


@dataclass(frozen=True, slots=True)
class FramingWords:
    """A framing, and how the plan says it."""

    framing: Framing
    words: str


@dataclass(frozen=True, slots=True)
class Uplink:
    """A line to the internet. `down` and `up` are what it measured, in bit/s; `headroom` is the part left free.

    `tree` is the name of its tree in each direction.
    """

    name: str
    interface: str
    down: Rate
    up: Rate
    headroom: float
    framed: FramingWords = FramingWords(ETHERNET, "ethernet")
    tree: Directional[str] = Directional(None, None)

    @property
    def framing(self) -> Framing:
        """What a packet costs on it."""
        return self.framed.framing

    def goodput(self, rate: float, length: Size = LARGEST_PACKET, headers: Size = 52) -> float:
        """What applications get out of a rate of frames, both in bit/s: of packets of this length, less headers.

        52 bytes are those of TCP over IPv4, with timestamps.
        """
        return rate * (length - headers) / self.framing.cost(length)

    def measured(self, direction: Direction) -> Rate:
        """What the line measured, in bit/s."""
        return self.up if direction == "up" else self.down

    def usable(self, direction: Direction) -> Rate:
        """What is left of it after the headroom, in bit/s; at least 1."""
        return max(1, round(self.measured(direction) * (1 - self.headroom)))


@dataclass(frozen=True, slots=True)
class Network:
    """Hosts behind one interface of the gateway."""

    name: str
    interface: str
    subnets: tuple[str, ...]
    addresses: AddressSet


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
        """The leaf for what no rule claims, in a tree without errors."""
        return next(leaf for leaf in self.leaves if leaf.default)


@dataclass(frozen=True, slots=True)
class Party:
    """Who is meant: the words of the plan, and the addresses that they come to."""

    words: tuple[str, ...]
    addresses: AddressSet


@dataclass(frozen=True, slots=True)
class Limiter:
    """A cap in bit/s, for each host or for all together; None where a direction is not capped."""

    name: str
    local: Party
    per_host: bool
    down: Rate | None
    up: Rate | None

    def rate(self, direction: Direction) -> Rate | None:
        """The cap in one direction."""
        return self.up if direction == "up" else self.down


@dataclass(frozen=True, slots=True)
class Rule:
    """Sorts conversations into a leaf. `place` is its place in the file's list, from 0.

    `queues` has the leaf's path in each tree that has it; in another, the rule's conversations go to the default.
    """

    name: str
    place: int
    local: Party | None
    remote: Party | None
    protocols: tuple[int, ...] | None
    ports: tuple[tuple[int, int], ...] | None
    dscps: tuple[int, ...] | None
    queues: dict[str, str]

    @property
    def is_catch_all(self) -> bool:
        """Whether it matches every conversation."""
        return not (self.local or self.remote or self.protocols or self.ports or self.dscps)


@dataclass(frozen=True, slots=True)
class Plan:
    """A whole plan."""

    document: Document
    site: str
    timezone: str
    uplinks: tuple[Uplink, ...]
    networks: tuple[Network, ...]
    groups: dict[str, AddressSet]
    trees: dict[str, Tree]
    limiters: tuple[Limiter, ...]
    rules: tuple[Rule, ...]

    def tree(self, uplink: Uplink, direction: Direction) -> Tree:
        """The tree of an uplink in a direction."""
        name = uplink.tree.of(direction)
        assert name is not None
        return self.trees[name]

    def trees_of(self, uplink: Uplink) -> list[tuple[Tree, tuple[Direction, ...]]]:
        """The trees of an uplink, each with the directions that it is for; one tree, where it is the same for both."""
        names = {uplink.tree.of(direction): self.tree(uplink, direction) for direction in DIRECTIONS}
        return [(tree, tuple(d for d in DIRECTIONS if uplink.tree.of(d) == name)) for name, tree in names.items()]

    @property
    def hosts(self) -> AddressSet:
        """Every address of every network."""
        return AddressSet(part for network in self.networks for part in network.addresses)

"""A queue of one uplink in one direction with all figures resolved: the input of the split and of the engine."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Final, Literal, TypeAlias

from wily_sluice.engine.packet import LONGEST_FRAME
from wily_sluice.units import Nanoseconds, Rate, Size

Aqm: TypeAlias = Literal["fq-codel", "codel", "fifo"]
FairBy: TypeAlias = Literal["conversation", "host"]
# How a parent divides what it gets among its children:
# - weighted: guarantees first; what is left by priority, and within one priority by weight;
# - strict: by priority alone, and within one priority by weight;
# - curve: all by weight, no less than the guarantee; leaves have deadlines for theirs.
Discipline: TypeAlias = Literal["weighted", "strict", "curve"]

FIRST_PRIORITY: Final = 1
LAST_PRIORITY: Final = 9
USUAL_PRIORITY: Final = 5


@dataclass(frozen=True, slots=True)
class LeafSpec:
    """The queue of a leaf: its management and its limit; None for defaults.

    The limit is in bytes, in packets, or in nanoseconds at the leaf's cap. `delay` is the longest delay of a packet
    within the guarantee, if its parent promises one. A `refused` leaf drops all packets.
    """

    aqm: Aqm = "fq-codel"
    fair_by: FairBy = "conversation"
    ecn: bool = True
    most_bytes: Size | None = None
    most_packets: int | None = None
    longest: Nanoseconds | None = None
    delay: Nanoseconds | None = None
    refused: bool = False

    def __reduce__(self) -> tuple[type["LeafSpec"], tuple[object, ...]]:
        """For pickling, which the default cannot do of a frozen compiled class."""
        limits = (self.most_bytes, self.most_packets, self.longest)
        return (LeafSpec, (self.aqm, self.fair_by, self.ecn, *limits, self.delay, self.refused))


@dataclass(frozen=True, slots=True)
class QueueSpec:
    """`path` is joined with `/` and empty for the root. Rates are bit/s; the root's guarantee and cap are the line's.

    `largest` is the size of the largest packet on the line, in bytes. Raises ValueError for impossible figures.
    """

    path: str
    guarantee: Rate
    cap: Rate
    priority: int = USUAL_PRIORITY
    weight: float = 1.0
    children: tuple["QueueSpec", ...] = ()
    leaf: LeafSpec = LeafSpec()
    discipline: Discipline = "weighted"
    largest: Size = LONGEST_FRAME

    def __post_init__(self) -> None:
        if self.cap < 1 or not 0 <= self.guarantee <= self.cap:
            raise ValueError(f"{self.path}: guarantee {self.guarantee} and cap {self.cap} bit/s do not go together")
        if not FIRST_PRIORITY <= self.priority <= LAST_PRIORITY:
            raise ValueError(f"{self.path}: priority {self.priority} is not from 1 to 9")
        if not self.weight > 0:
            raise ValueError(f"{self.path}: weight {self.weight} is not above 0")

    def walk(self) -> Iterator["QueueSpec"]:
        """This queue and all below it, parents before their children."""
        yield self
        for child in self.children:
            yield from child.walk()

    def leaves(self) -> Iterator["QueueSpec"]:
        """The leaves at or below this queue, in the order of the plan."""
        return (spec for spec in self.walk() if not spec.children)

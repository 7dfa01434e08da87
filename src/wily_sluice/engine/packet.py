"""A packet, and its size on the line.

The size of a packet on the line: frames, and the cells that may carry them.

A line carries frames, and a plan's rates count frames. The plan reader works out the cost of the layers.

A packet that enters a tunnel leaves inside another one with more headers and perhaps padding; it is charged the size of
the outer packet.
"""

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Final, Literal

from wily_sluice.units import Nanoseconds, Size

if TYPE_CHECKING:
    from wily_sluice.engine.conversations.conversation import Conversation
    from wily_sluice.engine.queueing.flow_path import FlowPath
    from wily_sluice.engine.tally import FlowTally

LARGEST_PACKET: Final[Size] = 1500  # bytes
ATM_CELL: Final = 53
ATM_PAYLOAD: Final = 48
PTM_BLOCK: Final = 65
PTM_PAYLOAD: Final = 64
Cells = Literal["atm", "ptm"]


@dataclass(frozen=True, slots=True)
class Wrapping:
    """A tunnel's effect on a packet of at most `largest` bytes: with `trailer` bytes appended, it is padded to a
    multiple of `multiple`, and gets headers of `around` bytes in total. `capped` means that padding does not exceed
    the largest size. Raises ValueError if no packet fits.
    """

    around: Size
    multiple: Size = 1
    trailer: Size = 0
    largest: Size = 0
    capped: bool = False

    def __post_init__(self) -> None:
        if not 576 <= self.largest <= LARGEST_PACKET:  # RFC 791 §3.1
            raise ValueError(f"the largest packet of a tunnel has 576 to {LARGEST_PACKET} B, not {self.largest}")

    def __reduce__(self) -> tuple[type["Wrapping"], tuple[Size, Size, Size, Size, bool]]:
        """For pickling, which the default cannot do of a frozen compiled class."""
        return (Wrapping, (self.around, self.multiple, self.trailer, self.largest, self.capped))

    def outside(self, length: Size) -> Size:
        """Bytes of the packet that carries one of `length` bytes."""
        bare = length + self.trailer
        padded = -(-bare // self.multiple) * self.multiple
        if self.capped and padded > self.largest:
            padded = max(bare, self.largest)
        return padded + self.around


@dataclass(frozen=True, slots=True)
class Framing:
    """`overhead` bytes are added to each packet; no frame is shorter than `minimum` bytes; then it goes into cells.
    Before all that a packet may be wrapped into another.

    Raises ValueError for an overhead or a minimum that no line has.
    """

    overhead: Size
    minimum: Size = 0
    cells: Cells | None = None
    wrapping: Wrapping | None = None

    def __post_init__(self) -> None:
        if not 0 <= self.overhead <= 256 or not 0 <= self.minimum <= LARGEST_PACKET:
            raise ValueError(f"no line has frames that add {self.overhead} B and are at least {self.minimum} B long")

    def __reduce__(self) -> tuple[type["Framing"], tuple[Size, Size, Cells | None, Wrapping | None]]:
        """For pickling, which the default cannot do of a frozen compiled class."""
        return (Framing, (self.overhead, self.minimum, self.cells, self.wrapping))

    @property
    def largest(self) -> Size:
        """The longest packet that needs not be cut."""
        return LARGEST_PACKET if self.wrapping is None else self.wrapping.largest

    def cost(self, length: Size) -> Size:
        """Bytes on the line for a packet of `length` bytes, IP header included."""
        frame = (length if self.wrapping is None else self.wrapping.outside(length)) + self.overhead
        if frame < self.minimum:
            frame = self.minimum
        if self.cells == "atm":
            return -(-frame // ATM_PAYLOAD) * ATM_CELL
        if self.cells == "ptm":
            return -(-frame * PTM_BLOCK // PTM_PAYLOAD)
        return frame

    def cost_when_cut(self, length: Size, headers: Size) -> Size:
        """Bytes on the line for a large offloaded packet, which the interface cuts into segments of the largest size.

        `headers` is the size of the headers that every segment repeats.
        """
        full, rest = divmod(length - headers, self.largest - headers)
        return full * self.cost(self.largest) + (self.cost(rest + headers) if rest else 0)

    def length_when_cut(self, length: Size, headers: Size, between: Size) -> Size:
        """Bytes of all segments together, with `between` bytes between two of them."""
        full, rest = divmod(length - headers, self.largest - headers)
        wrapping = self.wrapping
        if wrapping is None:
            return length + (full - (0 if rest else 1)) * (headers + between)
        size = full * (wrapping.outside(self.largest) + between)
        return size + wrapping.outside(rest + headers) if rest else size - between


ETHERNET: Final = Framing(18, 64)
LONGEST_FRAME: Final[Size] = ETHERNET.cost(LARGEST_PACKET)
NOT_ECT: Final = 0  # the ECN field (RFC 3168 §5)
ECT_1: Final = 1
ECT_0: Final = 2
CE: Final = 3


class Packet:
    """`size` is in bytes as charged on the line, `length` without framing, `payload` the application's bytes; `wrapped`
    is the part of `length` that a tunnel adds.

    `kind` has the kinds of packet (`engine.classify.kind`) if rules need them. `arrived` is the time of arrival,
    `entered` the time it joined its present queue.

    `ecn` is the ECN field on arrival. `marked` means that a queue has ECN-marked it instead of dropping it, and the
    caller must send it with CE. In the same way, a `dscp` other than -1 must be written into it. A packet is in one
    queue at a time; `behind` links the order of that queue.
    """

    __slots__ = (
        "arrived",
        "behind",
        "conversation",
        "dscp",
        "ecn",
        "entered",
        "flow_path",
        "kind",
        "length",
        "marked",
        "payload",
        "size",
        "stage",
        "tally",
        "token",
        "wrapped",
    )

    def __init__(
        self,
        size: Size,
        conversation: "Conversation",
        token: Any = None,
        ecn: int = NOT_ECT,
        payload: Size = 0,
        length: Size = 0,
        kind: int = 0,
    ) -> None:
        self.size = size
        self.conversation = conversation
        self.token = token
        self.ecn = ecn
        self.payload = payload
        self.length = length or size
        self.wrapped: Size = 0
        self.kind = kind
        self.dscp = -1
        self.marked = False
        self.entered: Nanoseconds = 0
        self.arrived: Nanoseconds = 0
        self.tally: FlowTally | None = None  # where the shaper counts it
        self.flow_path: FlowPath | None = None  # the way through limiters to a leaf, set by the shaper it is offered to
        self.stage = 0  # how many limiters it has passed
        self.behind: Packet | None = None

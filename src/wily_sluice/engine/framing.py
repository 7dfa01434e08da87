"""What a packet costs on the line, beyond its own bytes: in frames, and in the cells that these may go into.

A line carries frames, not packets, and a plan's rates are rates of frames. Which layers cost what is worked out where
the plan is read.
"""

from dataclasses import dataclass
from typing import Final, Literal

from wily_sluice.units import Size

LARGEST_PACKET: Final[Size] = 1500  # bytes
ATM_CELL: Final = 53
ATM_PAYLOAD: Final = 48
PTM_BLOCK: Final = 65
PTM_PAYLOAD: Final = 64

Cells = Literal["atm", "ptm"]


@dataclass(frozen=True, slots=True)
class Framing:
    """`overhead` bytes are added to each packet; no frame is shorter than `minimum` bytes; then it goes into cells.

    Raises ValueError for an overhead or a minimum that no line has.
    """

    overhead: Size
    minimum: Size = 0
    cells: Cells | None = None

    def __post_init__(self) -> None:
        if not 0 <= self.overhead <= 256 or not 0 <= self.minimum <= LARGEST_PACKET:
            raise ValueError(f"no line has an overhead of {self.overhead} B and frames of at least {self.minimum} B")

    def __reduce__(self) -> tuple[type["Framing"], tuple[Size, Size, Cells | None]]:
        """For pickling, which the default cannot do of a frozen compiled class."""
        return (Framing, (self.overhead, self.minimum, self.cells))

    def cost(self, length: Size) -> Size:
        """Bytes on the line for a packet of `length` bytes, IP header included."""
        frame = length + self.overhead
        if frame < self.minimum:
            frame = self.minimum
        if self.cells == "atm":
            return -(-frame // ATM_PAYLOAD) * ATM_CELL
        if self.cells == "ptm":
            return -(-frame * PTM_BLOCK // PTM_PAYLOAD)
        return frame

    def cost_when_cut(self, length: Size, headers: Size) -> Size:
        """Bytes on the line for a large offloaded packet, which the interface cuts into packets of 1500 bytes.

        `headers` is what each of these repeats of the large one's own headers.
        """
        full, rest = divmod(length - headers, LARGEST_PACKET - headers)
        return full * self.cost(LARGEST_PACKET) + (self.cost(rest + headers) if rest else 0)


ETHERNET: Final = Framing(18, 64)
LONGEST_FRAME: Final[Size] = ETHERNET.cost(LARGEST_PACKET)

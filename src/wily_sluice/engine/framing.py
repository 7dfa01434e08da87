"""What a packet costs on the line, beyond its own bytes.

A line carries frames, not packets, and a plan's rates are rates of frames. Layers, from the packet outwards:

- `pppoe`: 6 bytes of PPPoE and 2 of PPP (RFC 2516), inside Ethernet;
- Ethernet (IEEE 802.3): 14 of header, 4 of check sequence, no frame shorter than 64; `vlan` tags it with 4 more
  (IEEE 802.1Q); `wire` counts the 8 of preamble and the gap of 12 as well;
- `ptm` (IEEE 802.3 clause 61.3): 4 around the Ethernet frame, for its start, its end and a second check sequence, and
  65 bytes sent for every 64;
- `llc` and `vc`: ATM adaptation layer 5 (RFC 2684), 8 of trailer, and 8 (LLC, routed; 10 bridged, with padding) or none
  (VC; 2 bridged) of header, in cells of 53 bytes that carry 48; a bridged Ethernet frame leaves its check sequence out;
- `pppoa` (RFC 2364): 2 of PPP, and 4 of LLC header or none;
- `cable`: a cable modem's rate counts Ethernet frames with their check sequence, and not the header of its own.
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
NAMED: dict[str, Framing] = {
    "none": Framing(0),
    "ethernet": ETHERNET,
    "ethernet on the wire": Framing(38, 84),
    "ethernet over vlan": Framing(22, 68),
    "ethernet over vlan on the wire": Framing(42, 88),
    "pppoe": Framing(26, 64),
    "pppoe over vlan": Framing(30, 68),
    "ethernet over ptm": Framing(22, 68, "ptm"),
    "ethernet over vlan over ptm": Framing(26, 72, "ptm"),
    "pppoe over ptm": Framing(30, 68, "ptm"),
    "pppoe over vlan over ptm": Framing(34, 72, "ptm"),
    "ip over atm llc": Framing(16, 0, "atm"),
    "ip over atm vc": Framing(8, 0, "atm"),
    "ethernet over atm llc": Framing(32, 0, "atm"),
    "ethernet over atm vc": Framing(24, 0, "atm"),
    "pppoe over atm llc": Framing(40, 0, "atm"),
    "pppoe over atm vc": Framing(32, 0, "atm"),
    "pppoa over atm llc": Framing(14, 0, "atm"),
    "pppoa over atm vc": Framing(10, 0, "atm"),
    "cable": ETHERNET,
}
LONGEST_FRAME: Final[Size] = ETHERNET.cost(LARGEST_PACKET)

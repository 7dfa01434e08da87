"""What a packet costs on the line, beyond its own bytes.

A line carries frames, not packets: IEEE 802.3 puts 14 bytes of header before the packet and 4 of check sequence
behind it, and pads a frame to 64 bytes. A plan's rates are rates of frames.
"""

from dataclasses import dataclass

from wily_sluice.units import Size


@dataclass(frozen=True, slots=True)
class Framing:
    """`overhead` bytes are added to each packet; no frame is shorter than `minimum` bytes."""

    overhead: Size
    minimum: Size

    def cost(self, length: Size) -> Size:
        """Bytes on the line for a packet of `length` bytes, IP header included."""
        return max(length + self.overhead, self.minimum)


ETHERNET = Framing(overhead=18, minimum=64)
LONGEST_FRAME: Size = 1518  # bytes: an Ethernet frame around a packet of 1500

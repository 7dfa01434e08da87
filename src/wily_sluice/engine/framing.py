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

    def cost_when_cut(self, length: Size, headers: Size) -> Size:
        """Bytes on the line for a large offloaded packet, which the interface cuts into packets of 1500 bytes.

        `headers` is what each of these repeats of the large one's own headers.
        """
        data = length - headers
        packets = -(-data // (LARGEST_PACKET - headers))
        return data + packets * (headers + self.overhead)


ETHERNET = Framing(overhead=18, minimum=64)
LARGEST_PACKET: Size = 1500  # bytes
LONGEST_FRAME: Size = ETHERNET.cost(LARGEST_PACKET)

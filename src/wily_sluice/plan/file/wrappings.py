"""Encapsulations of tunnels, in words, and how to recognise their packets.

vxlan    wireguard    esp    esp over udp    gre    gre with key    ipip    24 B over udp

The last is for programs with another format: the bytes they add to each packet, inside UDP.
"""

import re
from dataclasses import dataclass
from typing import Final

from wily_sluice.engine.framing import LARGEST_PACKET, Wrapping
from wily_sluice.units import Size, parse_size, quoted

UDP: Final = 17
IPV4_HEADER, IPV6_HEADER, UDP_HEADER = 20, 40, 8  # bytes: RFC 791, RFC 8200, RFC 768
MOST_OWN: Final[Size] = 256
_OWN: Final = re.compile(r"(.+) over udp", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Wrapper:
    """`inner` bytes around each packet, which is padded as `Wrapping` says; without the outer IP header.

    `protocol` is what IP carries, None where that is the packet itself; `ports` are UDP's, none where the person has to
    say. `source` is where that stands.
    """

    words: str
    inner: Size
    protocol: int | None
    ports: tuple[int, ...] = ()
    multiple: Size = 1
    trailer: Size = 0
    source: str = ""
    mtu: Size | None = None

    def wrapping(self, ipv6: bool, mtu: Size | None = None) -> Wrapping:
        """The cost over IPv4 or IPv6 for a tunnel with this `mtu`. The default is the tunnel's usual value, or the
        largest that fits.
        """
        around = self.inner + (IPV6_HEADER if ipv6 else IPV4_HEADER)
        fits = (LARGEST_PACKET - around) // self.multiple * self.multiple - self.trailer
        return Wrapping(around, self.multiple, self.trailer, mtu or self.mtu or fits, self.mtu is not None)


WRAPPERS: Final = {
    one.words: one
    for one in (
        Wrapper("vxlan", UDP_HEADER + 8 + 14, UDP, (4789,), source="8 B and an Ethernet header, in UDP (RFC 7348 §5)"),
        Wrapper(
            "wireguard",
            UDP_HEADER + 16 + 16,
            UDP,
            (),
            16,
            source="16 B before and 16 behind, padded to 16, in UDP",
            mtu=1420,
        ),
        Wrapper("esp", 8 + 8 + 16, 50, (), 4, 2, "8 B, 8 of vector, padding to 4, 2, 16 of check (RFC 4303, RFC 4106)"),
        Wrapper("esp over udp", UDP_HEADER + 8 + 8 + 16, UDP, (4500,), 4, 2, "the same, in UDP (RFC 3948 §2.1)"),
        Wrapper("gre", 4, 47, source="4 B (RFC 2784 §2)"),
        Wrapper("gre with key", 8, 47, source="8 B (RFC 2890 §2)"),
        Wrapper("ipip", 0, None, source="the outer header alone (RFC 2003, RFC 2473)"),
    )
}


def parse_wrapper(value: object) -> Wrapper:
    """The encapsulation that a word names. ValueError if there is none."""
    if isinstance(value, Wrapper):
        return value
    words = " ".join(str(value).split())
    if words.lower() in WRAPPERS:
        return WRAPPERS[words.lower()]
    own = _OWN.fullmatch(words)
    if own is None:
        raise ValueError(f"no tunnel is {quoted(value)}: write one of {', '.join(WRAPPERS)}, or 24 B over udp")
    size = parse_size(own[1])
    if size > MOST_OWN:
        raise ValueError(f"{own[1]} is more than any tunnel adds: write at most {MOST_OWN} B")
    return Wrapper(f"{size} B over udp", size + UDP_HEADER, UDP)

"""Framings of a line, and the encapsulations of tunnels, in words.

Encapsulations of tunnels, in words, and how to recognise their packets.

vxlan    wireguard    esp    esp over udp    gre    gre with key    ipip    24 B over udp

The last is for programs with another format: the bytes they add to each packet, inside UDP.

Framings in words: layers, from the packet outward, joined by “over”.

pppoe over ptm    ethernet over vlan over vlan on the wire    pppoa over atm llc

First the encapsulation of the packet: `ip` (none), `ethernet`, `pppoe` (inside Ethernet, which need not be written) or
`pppoa`. Then up to two `vlan` tags. Last the carrier of the frame: `ptm`, `atm llc`, `atm vc` or `cable`. Without one,
a plain Ethernet frame is counted; `on the wire` adds preamble and gap.
"""

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher, get_close_matches
from itertools import product
from typing import Final

from wily_sluice.engine.classify.header import UDP
from wily_sluice.engine.packet import LARGEST_PACKET, Framing, Wrapping
from wily_sluice.units import Size, parse_size, quoted

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
    wrapper.words: wrapper
    for wrapper in (
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


MOST_TAGS: Final = 2  # IEEE 802.1Q clause 9.5: a service tag, then a customer tag
WIRE: Final = " on the wire"


@dataclass(frozen=True, slots=True)
class Layer:
    """`adds` describes what the layer adds to a packet or frame, with the clause of the standard."""

    word: str
    adds: str


LAYERS: Final = (
    Layer("ip", "nothing: the packet alone"),
    Layer("ethernet", "14 B of header and 4 of check sequence, at least 64 together (IEEE 802.3 clause 3)"),
    Layer("pppoe", "6 B of PPPoE and 2 of PPP, inside Ethernet (RFC 2516 §4)"),
    Layer("pppoa", "2 B of PPP, with `atm llc` 4 more of LLC header (RFC 2364 §5, §6)"),
    Layer("vlan", "4 B for each tag (IEEE 802.1Q clause 9)"),
    Layer("ptm", "4 B around the Ethernet frame, and 65 bytes sent for every 64 (IEEE 802.3 clause 61.3)"),
    Layer("atm llc", "8 B of trailer and 8 of header, 10 for a bridged frame, in cells of 53 B for 48 (RFC 2684 §5)"),
    Layer("atm vc", "8 B of trailer, 2 more for a bridged frame, in cells of 53 B for 48 (RFC 2684 §6)"),
    Layer("cable", "nothing: the rate of a cable modem counts Ethernet frames without the modem's own header"),
    Layer("on the wire", "8 B of preamble and the gap of 12 behind each frame (IEEE 802.3 clauses 3 and 4.4)"),
)
WORDS: Final = tuple(layer.word for layer in LAYERS)
HEADER, CHECK, SHORTEST, TAG, PREAMBLE_AND_GAP, PTM = 14, 4, 64, 4, 20, 4  # bytes
TRAILER: Final[Size] = 8  # of the ATM adaptation layer 5
ATM_HEADER: Final = {"atm llc": 8, "atm vc": 0}
BRIDGED: Final = 2  # more, for an Ethernet frame, which leaves its check sequence out
PPP, PPPOE, PPP_LLC = 2, 6, 4


@dataclass(frozen=True, slots=True)
class Stack:
    """Layers that a line can have, from the packet outward."""

    first: str
    tags: int = 0
    medium: str = ""
    wire: bool = False

    @property
    def words(self) -> str:
        """As the plan says it."""
        parts = [self.first, *["vlan"] * self.tags, *([self.medium] if self.medium else [])]
        return " over ".join(parts) + WIRE * self.wire

    @property
    def framing(self) -> Framing:
        """What it costs."""
        atm = self.medium in ATM_HEADER
        if self.first == "ip":
            return Framing(TRAILER + ATM_HEADER[self.medium], 0, "atm") if atm else Framing(0)
        if self.first == "pppoa":
            return Framing(TRAILER + PPP + (PPP_LLC if self.medium == "atm llc" else 0), 0, "atm")
        carried = (PPPOE + PPP if self.first == "pppoe" else 0) + TAG * self.tags
        if atm:
            return Framing(TRAILER + ATM_HEADER[self.medium] + BRIDGED + HEADER + carried, 0, "atm")
        around = PTM if self.medium == "ptm" else PREAMBLE_AND_GAP if self.wire else 0
        shortest = SHORTEST + TAG * self.tags + around
        return Framing(HEADER + CHECK + carried + around, shortest, "ptm" if self.medium == "ptm" else None)


def stacks(most_tags: int = MOST_TAGS) -> Iterator[Stack]:
    """All stacks there are, with so many tags at most."""
    yield from (Stack("ip"), Stack("ip", 0, "atm llc"), Stack("ip", 0, "atm vc"))
    yield from (Stack("pppoa", 0, "atm llc"), Stack("pppoa", 0, "atm vc"))
    for first, tags in product(("ethernet", "pppoe"), range(most_tags + 1)):
        yield from (Stack(first, tags), Stack(first, tags, "", True))
        yield from (Stack(first, tags, medium) for medium in ("ptm", "atm llc", "atm vc", "cable"))


def parse_stack(text: str) -> Stack:
    """The layers that are written. ValueError when no line has them, with those that are nearest."""
    words = " ".join(text.lower().split())
    wire = words.endswith(WIRE)
    layers = words.removesuffix(WIRE).split(" over ")
    for layer in layers:
        if layer not in WORDS and layer != "atm":
            near = get_close_matches(layer, WORDS, n=1, cutoff=0.6)
            meant = _nearest([near[0] if each == layer else each for each in layers], wire) if near else None
            hint = f"did you mean “{meant}”?" if meant else f"layers are {', '.join(WORDS[:-1])}"
            raise ValueError(f"unknown layer {quoted(layer)}: {hint}")
    if "atm" in layers:
        raise ValueError("ATM carries packets in two ways: write atm llc or atm vc (RFC 2684)")
    if layers.count("vlan") > MOST_TAGS:
        raise ValueError(f"a frame has at most {MOST_TAGS} VLAN tags")
    first, *others = layers
    if first == "vlan" or (first == "ip" and {"ethernet", "vlan"} & set(others)):
        first, others = "ethernet", ["vlan"] * (first == "vlan") + others
    medium = others[-1] if others and others[-1] not in ("vlan", "ethernet") else ""
    tags = others.count("vlan")
    stack = Stack(first, tags, medium, wire)
    expected = len(others) - others.count("ethernet") == tags + bool(medium) and others.count("ethernet") <= 1
    if stack in set(stacks()) and expected:
        return stack
    raise ValueError(f"no line has these layers: did you mean “{_nearest(layers, wire)}”?")


def _nearest(layers: Sequence[str], wire: bool) -> str:
    """The stack that is most like these layers: with their medium, with most of the others, and spelt most like it."""
    wanted = [*dict.fromkeys(layers), *(["on the wire"] if wire else [])]
    if "pppoe" in wanted:
        wanted = [layer for layer in wanted if layer != "ethernet"]
    if wanted[0] in ("ip", "ptm", "cable") and "pppoe" not in wanted:
        wanted = ["ethernet", *(layer for layer in wanted if layer not in ("ip", "ethernet"))]
    text = " over ".join(wanted)

    def likeness(stack: Stack) -> tuple[bool, float, float]:
        parts = [stack.first, *["vlan"] * stack.tags, *([stack.medium] if stack.medium else [])]
        parts += ["on the wire"] * stack.wire
        common = (Counter(wanted) & Counter(parts)).total() / (len(wanted) + len(parts))
        return stack.medium in wanted, common, SequenceMatcher(None, text, stack.words).ratio()

    return max(stacks(), key=likeness).words


# One tag at most, and a cable modem's once: enough to choose from.
COMMON: Final = tuple(
    stack for stack in stacks(most_tags=1) if stack.medium != "cable" or (stack.first == "ethernet" and not stack.tags)
)

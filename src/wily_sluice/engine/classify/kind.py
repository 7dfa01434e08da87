"""Kinds of single packets, which rules may ask for; as bits, of which a packet may have several.

Sources: RFC 9293 §3.1 (TCP's flags), RFC 792 and RFC 4443 (ICMP).
"""

from typing import Final

PURE_ACK: Final = 1
SYN: Final = 2
FIN: Final = 4
RST: Final = 8
ICMP: Final = 16
KIND_BITS: Final = 5
NAMES: dict[str, int] = {"ack": PURE_ACK, "syn": SYN, "fin": FIN, "rst": RST, "icmp": ICMP}


def kind_of(protocol: int, flags: int, length: int, headers: int) -> int:
    """The kinds of a packet; `flags` are TCP's. A pure acknowledgement carries no data and opens or ends nothing."""
    kind = 0
    if protocol == 6:
        if flags & 2:
            kind |= SYN
        if flags & 1:
            kind |= FIN
        if flags & 4:
            kind |= RST
        if flags & 23 == 16 and length <= headers:
            kind |= PURE_ACK
    elif protocol == 1 or protocol == 58:
        kind |= ICMP
    return kind

"""Kinds of single packets for rules, as bits. A packet may have several kinds.

A TCP segment with SYN belongs to the handshake (RFC 9293 §3.5). FIN or RST closes the connection (§3.6, §3.5.2). A pure
acknowledgement carries no data. Control messages are those of ICMP (RFC 792, RFC 4443).
"""

from typing import Final

HANDSHAKE: Final = 1
CLOSING: Final = 2
ACKNOWLEDGEMENT: Final = 4
CONTROL: Final = 8
KIND_BITS: Final = 4
NAMES: dict[str, int] = {
    "handshake": HANDSHAKE,
    "closing": CLOSING,
    "acknowledgement": ACKNOWLEDGEMENT,
    "control": CONTROL,
}


def kind_of(protocol: int, flags: int, length: int, headers: int) -> int:
    """The kinds of a packet with this length and header length in bytes. `flags` are TCP's."""
    kind = 0
    if protocol == 6:
        if flags & 2:  # SYN
            kind |= HANDSHAKE
        if flags & 5:  # FIN, RST
            kind |= CLOSING
        if flags & 23 == 16 and length <= headers:  # ACK, and none of the others
            kind |= ACKNOWLEDGEMENT
    elif protocol == 1 or protocol == 58:
        kind |= CONTROL
    return kind

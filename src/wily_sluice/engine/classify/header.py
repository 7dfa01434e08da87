"""What a packet's header says, and its kind.

A TCP segment with SYN belongs to the handshake (RFC 9293 §3.5). FIN or RST closes the connection (§3.6, §3.5.2). A pure
acknowledgement carries no data. Control messages are those of ICMP (RFC 792, RFC 4443).

Reads the first bytes of an IP packet: which conversation it belongs to, how long it is, and its DSCP.

Sources: RFC 791 (IPv4), RFC 8200 (IPv6 and its extension headers), RFC 2474 (DSCP). Called once for every packet, so
what most packets are, TCP or UDP over IPv4 without options, is read by the fewest slices.

The key of a conversation is the same for both directions: protocol, local address, remote address, local port, remote
port; 13 bytes for IPv4, 37 for IPv6. Of a datagram in fragments only the first knows the ports; the keys of the others
have zeros there (`fragments` puts them right). Nothing here raises: what cannot be read is None.
"""

from typing import Final, NamedTuple

HANDSHAKE: Final = 1
CLOSING: Final = 2
ACKNOWLEDGEMENT: Final = 4
CONTROL: Final = 8
KIND_BITS: Final = 4
KIND_NAMES: dict[str, int] = {
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


TCP: Final = 6
UDP: Final = 17


# TCP, UDP, DCCP, SCTP, UDP-Lite: ports are their first four bytes.
_WITH_PORTS: Final = frozenset({TCP, UDP, 33, 132, 136})
_NO_PORTS: Final = bytes(4)


# Hop-by-hop, routing, authentication, destination options, mobility.
_EXTENSIONS: Final = frozenset({0, 43, 51, 60, 135})
_FRAGMENT: Final = 44
ICMP: Final = 1
ICMPV6: Final = 58
_ICMP_ERRORS: Final = frozenset({3, 4, 5, 11, 12})  # unreachable, quench, redirect, time exceeded, parameter problem
_MOST_EXTENSIONS: Final = 8
UNREADABLE: Final = bytes(13)  # the key of all that cannot be read


class Parsed:
    """A packet's header: the conversation's key, the packet's length in bytes, its DSCP (0 to 63), its ECN field.

    `headers` is the number of bytes of the IP and TCP or UDP headers; the rest is payload. `flags` are TCP's (RFC 9293
    §3.1). `datagram` is empty, or identifies the datagram of a fragment.
    """

    __slots__ = ("datagram", "dscp", "ecn", "flags", "headers", "key", "length")

    def __init__(
        self, key: bytes, length: int, dscp: int, ecn: int, headers: int, flags: int = 0, datagram: bytes = b""
    ) -> None:
        self.datagram = datagram
        self.key = key
        self.length = length
        self.dscp = dscp
        self.ecn = ecn
        self.headers = headers
        self.flags = flags


class Parties(NamedTuple):
    """A conversation's key, taken apart. Addresses are packed."""

    protocol: int
    local: bytes
    remote: bytes
    local_port: int
    remote_port: int


def parse(header: bytes, up: bool) -> Parsed | None:
    """Read a packet's header; `up` means that the sender is the local party. None if it is not an IP packet."""
    if len(header) < 20:
        return None
    version = header[0] >> 4
    protocol = header[9]
    if header[0] == 0x45 and protocol in (TCP, UDP) and len(header) >= 34 and not (header[6] & 0x3F or header[7]):
        if up:
            key = header[9:10] + header[12:24]
        else:
            key = header[9:10] + header[16:20] + header[12:16] + header[22:24] + header[20:22]
        if protocol == UDP:
            return Parsed(key, header[2] << 8 | header[3], header[1] >> 2, header[1] & 3, 28)
        headers = 20 + (header[32] >> 4) * 4
        return Parsed(key, header[2] << 8 | header[3], header[1] >> 2, header[1] & 3, headers, header[33])
    if version == 4:
        start = (header[0] & 15) * 4
        behind = (header[6] & 0x1F) | header[7]  # whether it is a fragment that is not the first
        ports = header[start : start + 4] if protocol in _WITH_PORTS and not behind else _NO_PORTS
        headers = start + (0 if behind else _transport(protocol, header, start))
        datagram = header[4:6] + header[9:10] + header[12:20] if behind or header[6] & 0x20 else b""
        source, target = header[12:16], header[16:20]
        length = header[2] << 8 | header[3]
        traffic_class = header[1]
    elif version == 6 and len(header) >= 40:
        protocol, ports, start, datagram = _walk_extensions(header)
        headers = start + (0 if ports is _NO_PORTS else _transport(protocol, header, start))
        source, target = header[8:24], header[24:40]
        length = (header[4] << 8 | header[5]) + 40
        traffic_class = (header[0] & 15) << 4 | header[1] >> 4
    else:
        return None
    if len(ports) < 4:
        ports = _NO_PORTS
    if up:
        key = bytes((protocol,)) + source + target + ports
    else:
        key = bytes((protocol,)) + target + source + ports[2:] + ports[:2]
    flags = header[start + 13] if protocol == TCP and ports is not _NO_PORTS and len(header) > start + 13 else 0
    return Parsed(key, length, traffic_class >> 2, traffic_class & 3, headers, flags, datagram)


def quoted(header: bytes, up: bool) -> bytes:
    """The key of the conversation in the packet that an ICMP error quotes; empty for other packets.

    Sources: RFC 792, RFC 4443 §2.1 (errors have types below 128) and §3. The quoted packet had the opposite direction.
    """
    if header[0] >> 4 == 4:
        start = (header[0] & 15) * 4
        if header[9] != ICMP or len(header) <= start or header[start] not in _ICMP_ERRORS:
            return b""
    else:
        protocol, _, start, _ = _walk_extensions(header)
        if protocol != ICMPV6 or len(header) <= start or header[start] >= 128:
            return b""
    inner = header[start + 8 :]
    if not inner or inner[0] >> 4 != header[0] >> 4:
        return b""
    parsed = parse(inner, not up)
    return parsed.key if parsed is not None else b""


def _transport(protocol: int, header: bytes, start: int) -> int:
    """Bytes of the TCP or UDP header that begins there; 0 where there is none."""
    if protocol == UDP:
        return 8
    if protocol == TCP and len(header) > start + 12:
        return (header[start + 12] >> 4) * 4
    return 0


def _walk_extensions(header: bytes) -> tuple[int, bytes, int, bytes]:
    """The upper-layer protocol, its ports, where it begins, and what tells the datagram of a fragment from others; or
    the first extension that cannot be passed, no ports.
    """
    protocol, start, datagram = header[6], 40, b""
    for _ in range(_MOST_EXTENSIONS):
        if protocol in _WITH_PORTS:
            return protocol, header[start : start + 4], start, datagram
        if protocol == _FRAGMENT and start + 8 <= len(header):
            datagram = header[start + 4 : start + 8] + header[8:40]
            if header[start + 2] or header[start + 3] & 0xF8:  # not the first
                return header[start], _NO_PORTS, start + 8, datagram
            protocol, start = header[start], start + 8
            continue
        if protocol not in _EXTENSIONS or start + 1 >= len(header):
            break
        # The authentication header counts in words of 4 bytes less 2 (RFC 4302), the others in words of 8 less 1.
        size = (header[start + 1] + 2) * 4 if protocol == 51 else (header[start + 1] + 1) * 8
        protocol, start = header[start], start + size
    return protocol, _NO_PORTS, start, datagram


def is_ipv6(key: bytes) -> bool:
    """Whether a conversation is one of IPv6."""
    return len(key) > 13


def parties(key: bytes) -> Parties:
    """Take a conversation's key apart."""
    width = 16 if is_ipv6(key) else 4
    return Parties(
        key[0],
        key[1 : 1 + width],
        key[1 + width : 1 + 2 * width],
        int.from_bytes(key[-4:-2]),
        int.from_bytes(key[-2:]),
    )


def key_of(parties: Parties) -> bytes:
    """The key of the conversation between these parties."""
    return (
        bytes((parties.protocol,))
        + parties.local
        + parties.remote
        + parties.local_port.to_bytes(2)
        + parties.remote_port.to_bytes(2)
    )

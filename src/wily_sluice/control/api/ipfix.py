"""IPFIX messages (RFC 7011) about conversations: the traffic of each in one direction over a span of time.

The elements are those of IANA's registry. IPv4 conversations, IPv6 conversations, and the sum of all others have a
template each; names have a variable length (§7). Every message contains the templates, because UDP may lose any message
(§8.4), and fits into a packet of 1,280 bytes.
"""

import struct
from collections.abc import Iterable, Iterator
from typing import Final, NamedTuple

from wily_sluice.engine.classify.header import parties
from wily_sluice.units import Direction, Size

VERSION: Final = 10
TEMPLATES: Final = 2  # the id of a set of templates (§3.3.2)
VARIABLE: Final = 65_535
LARGEST: Final[Size] = 1200
DOMAIN: Final = 1
HEADER = struct.Struct(">HHIII")
SET = struct.Struct(">HH")
# Elements and their sizes: flowStartMilliseconds, flowEndMilliseconds; addresses; sourceTransportPort,
# destinationTransportPort, protocolIdentifier; flowDirection, octetDeltaCount, packetDeltaCount; interfaceName,
# applicationName.
_TIMES = ((152, 8), (153, 8))
_PORTS = ((7, 2), (11, 2), (4, 1))
_COUNTS = ((61, 1), (1, 8), (2, 8))
_NAMES = ((82, VARIABLE), (96, VARIABLE))
IPV4: Final = 256
IPV6: Final = 257
OTHERS: Final = 258
LAYOUT: Final = {
    IPV4: (*_TIMES, (8, 4), (12, 4), *_PORTS, *_COUNTS, *_NAMES),
    IPV6: (*_TIMES, (27, 16), (28, 16), *_PORTS, *_COUNTS, *_NAMES),
    OTHERS: (*_TIMES, *_COUNTS, *_NAMES),
}


class Sent(NamedTuple):
    """The traffic of a conversation between two times, in milliseconds since 1970; its `key` is empty for the sum of
    the others.
    """

    begin: int
    end: int
    key: bytes
    direction: Direction
    bytes: Size
    packets: int
    uplink: str
    service: str


def messages(sent: Iterable[Sent], at: int, sequence: int) -> Iterator[tuple[bytes, int]]:
    """As many messages as it takes, at this second since 1970, each with how many records it has; `sequence` is how
    many records there were before (§3.1).
    """
    templates = _templates()
    room = LARGEST - HEADER.size - len(templates)
    sets: dict[int, bytearray] = {}
    records = used = 0
    for one in sent:
        template, record = _template(one), _record(one)
        size = len(record) + (0 if template in sets else SET.size)
        if sets and used + size > room:
            yield _message(templates, sets, at, sequence), records
            sequence, records, used, sets = sequence + records, 0, 0, {}
            size = len(record) + SET.size
        sets.setdefault(template, bytearray()).extend(record)
        records, used = records + 1, used + size
    if sets:
        yield _message(templates, sets, at, sequence), records


def _message(templates: bytes, sets: dict[int, bytearray], at: int, sequence: int) -> bytes:
    body = templates + b"".join(SET.pack(one, SET.size + len(data)) + data for one, data in sets.items())
    return HEADER.pack(VERSION, HEADER.size + len(body), at & 0xFFFFFFFF, sequence & 0xFFFFFFFF, DOMAIN) + body


def _templates() -> bytes:
    body = b""
    for template, elements in LAYOUT.items():
        body += struct.pack(">HH", template, len(elements))
        body += b"".join(struct.pack(">HH", element, size) for element, size in elements)
    return SET.pack(TEMPLATES, SET.size + len(body)) + body


def _template(one: Sent) -> int:
    if not one.key:
        return OTHERS
    return IPV6 if len(parties(one.key).local) == 16 else IPV4


def _record(one: Sent) -> bytes:
    record = struct.pack(">QQ", one.begin, one.end)
    if one.key:
        who = parties(one.key)
        ends = [(who.local, who.local_port), (who.remote, who.remote_port)]
        (source, source_port), (target, target_port) = ends if one.direction == "up" else ends[::-1]
        record += source + target + struct.pack(">HHB", source_port, target_port, who.protocol)
    # flowDirection: 0 into the site, 1 out of it.
    record += struct.pack(">BQQ", one.direction == "up", one.bytes, one.packets)
    return record + _name(one.uplink) + _name(one.service)


def _name(text: str) -> bytes:
    name = text.encode()[:254]
    return bytes((len(name),)) + name

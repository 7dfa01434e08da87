"""Flow records for a collector, by IPFIX over UDP.

IPFIX messages (RFC 7011) about conversations: the traffic of each in one direction over a span of time.

The elements are those of IANA's registry. IPv4 conversations, IPv6 conversations, and the sum of all others have a
template each; names have a variable length (§7). Every message contains the templates, because UDP may lose any message
(§8.4), and fits into a packet of 1,280 bytes.

A conversation has a record each minute, and one after it has been silent for a while. Nothing waits for the collector,
and lost records stay lost (RFC 7011 §10.3).
"""

import socket
import struct
from collections.abc import Iterable, Iterator
from typing import Final, NamedTuple

from wily_sluice.control.log import note
from wily_sluice.engine.classify.header import parties
from wily_sluice.gate.observers import Talk
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
    for counts in sent:
        template, record = _template(counts), _record(counts)
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
    body = templates + b"".join(SET.pack(template, SET.size + len(data)) + data for template, data in sets.items())
    return HEADER.pack(VERSION, HEADER.size + len(body), at & 0xFFFFFFFF, sequence & 0xFFFFFFFF, DOMAIN) + body


def _templates() -> bytes:
    body = b""
    for template, elements in LAYOUT.items():
        body += struct.pack(">HH", template, len(elements))
        body += b"".join(struct.pack(">HH", element, size) for element, size in elements)
    return SET.pack(TEMPLATES, SET.size + len(body)) + body


def _template(counts: Sent) -> int:
    if not counts.key:
        return OTHERS
    return IPV6 if len(parties(counts.key).local) == 16 else IPV4


def _record(counts: Sent) -> bytes:
    record = struct.pack(">QQ", counts.begin, counts.end)
    if counts.key:
        who = parties(counts.key)
        ends = [(who.local, who.local_port), (who.remote, who.remote_port)]
        (source, source_port), (target, target_port) = ends if counts.direction == "up" else ends[::-1]
        record += source + target + struct.pack(">HHB", source_port, target_port, who.protocol)
    # flowDirection: 0 into the site, 1 out of it.
    record += struct.pack(">BQQ", counts.direction == "up", counts.bytes, counts.packets)
    return record + _name(counts.uplink) + _name(counts.service)


def _name(text: str) -> bytes:
    name = text.encode()[:254]
    return bytes((len(name),)) + name


ACTIVE = 60_000  # milliseconds
IDLE = 15_000
MOST = 16_384  # conversations between two tellings


class FlowExport:
    """To one collector at a time, or none."""

    def __init__(self) -> None:
        self._collector: tuple[str, int] | None = None
        self._socket: socket.socket | None = None
        self._open: dict[tuple[bytes, Direction, str], Sent] = {}
        self._records = 0
        self._told = False

    @property
    def wanted(self) -> bool:
        """Whether there is a collector."""
        return self._socket is not None

    def aim(self, collector: tuple[str, int] | None) -> None:
        """Use this address and port from now on. OSError if there is no socket."""
        if collector == self._collector:
            return
        self.close()
        self._collector = collector
        if collector is not None:
            family = socket.AF_INET6 if ":" in collector[0] else socket.AF_INET
            self._socket = socket.socket(family, socket.SOCK_DGRAM)
            self._socket.setblocking(False)
            self._records = 0

    def add(self, at: float, talks: Iterable[Talk]) -> None:
        """Add traffic up to this time, in seconds since 1970, and send due records."""
        if self._socket is None:
            return
        now = round(at * 1000)
        for talk in talks:
            place = talk.key, talk.direction, talk.uplink
            before = self._open.get(place)
            begin, size, packets = (before.begin, before.bytes, before.packets) if before else (now, 0, 0)
            self._open[place] = Sent(
                begin,
                now,
                talk.key,
                talk.direction,
                size + talk.bytes,
                packets + talk.packets,
                talk.uplink,
                talk.service,
            )
        due = [
            place for place, record in self._open.items() if now - record.begin >= ACTIVE or now - record.end >= IDLE
        ]
        if len(self._open) - len(due) > MOST:
            due = list(self._open)
        if due:
            self._tell(now, [self._open.pop(place) for place in due])

    def _tell(self, now: int, sent: list[Sent]) -> None:
        assert self._socket is not None and self._collector is not None
        for message, records in messages(sent, now // 1000, self._records):
            self._records += records
            try:
                self._socket.sendto(message, self._collector)
                self._told = False
            except OSError as error:
                if not self._told:
                    self._told = True
                    note("collector.unreachable", "warning", collector=self._collector[0], why=str(error))

    def close(self) -> None:
        """Send the remaining records, and stop."""
        if self._socket is not None:
            if self._open:
                now = max(record.end for record in self._open.values())
                self._tell(now, list(self._open.values()))
                self._open.clear()
            self._socket.close()
            self._socket, self._collector = None, None

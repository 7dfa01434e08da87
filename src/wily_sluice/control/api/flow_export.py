"""Sends flow records to a collector, by IPFIX over UDP.

A conversation has a record each minute, and one after it has been silent for a while. Nothing waits for the collector,
and lost records stay lost (RFC 7011 §10.3).
"""

import socket
from collections.abc import Iterable

from wily_sluice.control.api.ipfix import Sent, messages
from wily_sluice.control.log import note
from wily_sluice.gate.counters import Talk
from wily_sluice.units import Direction

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
        due = [place for place, one in self._open.items() if now - one.begin >= ACTIVE or now - one.end >= IDLE]
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
                now = max(one.end for one in self._open.values())
                self._tell(now, list(self._open.values()))
                self._open.clear()
            self._socket.close()
            self._socket, self._collector = None, None

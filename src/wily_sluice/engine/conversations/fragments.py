"""The conversation of fragments: only the first fragment of a datagram contains the ports.

Sources: RFC 791 §3.2, RFC 8200 §4.5: the fragments of a datagram have the same source, destination, protocol and
identification. The result of a first fragment is remembered for LIFE, for a bounded number of datagrams; the oldest are
forgotten first. A fragment ahead of the first one belongs to a conversation without ports.
"""

from collections import deque
from typing import Final

from wily_sluice.engine.classify.header import Parsed
from wily_sluice.units import SECOND, Nanoseconds

MOST: Final = 4096
LIFE: Final[Nanoseconds] = 30 * SECOND


class Fragments:
    """Of one direction."""

    __slots__ = ("_order", "_ports")

    def __init__(self) -> None:
        self._ports: dict[bytes, tuple[bytes, Nanoseconds]] = {}
        self._order: deque[bytes] = deque()

    def __len__(self) -> int:
        return len(self._ports)

    def key(self, parsed: Parsed, now: Nanoseconds) -> bytes:
        """The key of a fragment's conversation; a first fragment is remembered."""
        datagram, key = parsed.datagram, parsed.key
        ports = key[-4:]
        if any(ports):
            if datagram not in self._ports:
                if len(self._order) >= MOST:
                    self._ports.pop(self._order.popleft(), None)
                self._order.append(datagram)
            self._ports[datagram] = (ports, now + LIFE)
            return key
        known = self._ports.get(datagram)
        return key[:-4] + known[0] if known is not None and known[1] > now else key

"""Counts the data segments received on connections, from the kernel's figures: including duplicates and segments out of
order, and so the traffic of the line rather than the data of the application.
"""

import socket
import struct
from typing import Any

from wily_sluice.units import Size

_CAME = struct.Struct("@128xQ16xI")  # linux/tcp.h, struct tcp_info: tcpi_bytes_received, tcpi_data_segs_in
_ACKNOWLEDGED = struct.Struct("@120xQ")  # tcpi_bytes_acked
_OPTIONS = 5  # the byte of tcpi_options
TIMESTAMPS: Size = 12  # bytes of TCP's option of them (RFC 7323 §3.2), padded


class Segments:
    """Of connections that come and go."""

    def __init__(self) -> None:
        self._counts: dict[int, tuple[Any, int, Size]] = {}
        self._over = (0, 0)

    def add(self, end: Any) -> None:
        """Count the segments of a socket from now on."""
        self._counts[id(end)] = end, 0, 0

    def remove(self, end: Any) -> None:
        """Stop counting it; earlier segments stay counted."""
        self._look()
        _, segments, size = self._counts.pop(id(end), (None, 0, 0))
        self._over = self._over[0] + segments, self._over[1] + size

    def _look(self) -> None:
        for name, (end, segments, size) in self._counts.items():
            now = came(end)
            self._counts[name] = end, max(segments, now[0]), max(size, now[1])

    def total(self) -> tuple[int, Size]:
        """All that came: segments, and bytes in their order."""
        self._look()
        segments = self._over[0] + sum(count for _, count, _ in self._counts.values())
        return segments, self._over[1] + sum(size for _, _, size in self._counts.values())


def came(end: Any) -> tuple[int, Size]:
    """Segments with data that came over a socket, and bytes in their order; 0 where the kernel does not say."""
    try:
        info = end.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, _CAME.size)
        size, segments = _CAME.unpack(info)
    except (OSError, struct.error):
        return 0, 0
    return int(segments), int(size)


def acknowledged(end: Any) -> Size:
    """Bytes that the other side has acknowledged; 0 where the kernel does not say."""
    try:
        return int(_ACKNOWLEDGED.unpack(end.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, _ACKNOWLEDGED.size))[0])
    except (OSError, struct.error):
        return 0


def segment_of(end: Any) -> tuple[Size, Size]:
    """How much data a full segment of a socket has, and how many bytes of headers; 0 where the kernel does not say."""
    try:
        data = int(end.getsockopt(socket.IPPROTO_TCP, socket.TCP_MAXSEG))
        options = end.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 8)[_OPTIONS]
    except OSError:
        return 0, 0
    return data, (60 if end.family == socket.AF_INET6 else 40) + (TIMESTAMPS if options & 1 else 0)

"""Counts the segments with data that came over connections, by what the kernel says of each: also those that came
twice, or wait for one before them, and so what the line carried rather than what an application has read.
"""

import socket
import struct
from typing import Any

from wily_sluice.units import Size

_SEGMENTS = struct.Struct("@152xI")  # linux/tcp.h, struct tcp_info: tcpi_data_segs_in
_OPTIONS = 5  # the byte of tcpi_options
TIMESTAMPS: Size = 12  # bytes of TCP's option of them (RFC 7323 §3.2), padded


class Segments:
    """Of connections that come and go."""

    def __init__(self) -> None:
        self._counts: dict[int, tuple[Any, int]] = {}
        self._over = 0

    def add(self, end: Any) -> None:
        """Count what comes over a socket from now on."""
        self._counts[id(end)] = end, 0

    def remove(self, end: Any) -> None:
        """Count it no more; what came stays counted."""
        self._look()
        _, count = self._counts.pop(id(end), (None, 0))
        self._over += count

    def _look(self) -> None:
        for name, (end, before) in self._counts.items():
            self._counts[name] = end, max(before, segments_in(end))

    def total(self) -> int:
        """All that came."""
        self._look()
        return self._over + sum(count for _, count in self._counts.values())


def segments_in(end: Any) -> int:
    """Segments with data that came over a socket; 0 where the kernel does not say."""
    try:
        told = end.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, _SEGMENTS.size)
        return int(_SEGMENTS.unpack(told)[0])
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

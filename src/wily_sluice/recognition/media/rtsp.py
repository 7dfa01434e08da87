"""RTSP (RFC 7826): the ports of media that its Transport fields announce (§18.54; `client_port` is of RFC 2326)."""

import re

_FIRST = re.compile(rb"RTSP/[12]\.0 \d{3}")
_TRANSPORT = re.compile(rb"^Transport:[ \t]*([^\r\n]{1,600})", re.IGNORECASE | re.MULTILINE)
_PORTS = re.compile(rb"(client|server)_port=(\d{1,5})(?:-(\d{1,5}))?")
MOST_PORTS = 8


def media(message: bytes) -> list[tuple[bool, int]]:
    """The ports of media, each with whether it belongs to the sender of this message."""
    is_answer = _FIRST.match(message) is not None
    found: list[tuple[bool, int]] = []
    for field in _TRANSPORT.finditer(message[:4096]):
        for match in _PORTS.finditer(field[1]):
            of_sender = (match[1] == b"server") == is_answer
            found += [(of_sender, int(port)) for port in (match[2], match[3]) if port and 0 < int(port) < 65536]
    return found[:MOST_PORTS]

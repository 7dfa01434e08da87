"""Plain HTTP (RFC 9112), by its first line; the host from the request's Host field (RFC 9110 §7.2).

The preface of HTTP/2 (RFC 9113 §3.4) is recognised too, without a host name.
"""

import re

from wily_sluice.recognition.opening import Opening
from wily_sluice.recognition.protocols.client_hello import host_name
from wily_sluice.recognition.verdict import WAIT, Answer, Verdict

_REQUEST = re.compile(rb"[A-Z]{3,16} [^ \r\n]{1,4096} HTTP/1\.[01]\r?\n")
_HOST = re.compile(rb"\r?\nhost:[ \t]*([^\s:]{1,253})", re.IGNORECASE)
_METHODS = (b"GET ", b"POST ", b"HEAD ", b"PUT ", b"DELETE ", b"OPTIONS ", b"PATCH ", b"CONNECT ", b"TRACE ")
PREFACE = b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"
LONGEST_HEAD = 4096  # bytes


def look(opening: Opening) -> Answer:
    """Whether either side opens with a request, or answers as if there was one."""
    waits = False
    for data in opening.streams:
        if not data or (data[:9] and any(one.startswith(data[: len(one)]) for one in (*_METHODS, PREFACE))):
            waits = waits or len(data) < LONGEST_HEAD
        if data.startswith(PREFACE):
            return Verdict("http", "the preface of HTTP/2")
        match = _REQUEST.match(data[:LONGEST_HEAD])
        if match is not None:
            head = data[match.end() - 2 : LONGEST_HEAD]
            host = _HOST.search(head)
            ended = b"\r\n\r\n" in head or b"\n\n" in head or len(data) >= LONGEST_HEAD
            if host is None and not ended:
                return WAIT
            name = host_name(host[1]) if host is not None else ""
            if b"info_hash=" in match[0]:
                return Verdict("bittorrent", "a request to a tracker of BitTorrent (BEP 3)", name)
            request = match[0].split(b" ", 1)[0].decode("ascii")
            return Verdict("http", f"a {request} request" + (f" to {name}" if name else ""), name)
        if re.match(rb"HTTP/1\.[01] \d{3}", data):
            return Verdict("http", "an answer of HTTP", certain=False)
    return WAIT if waits else None

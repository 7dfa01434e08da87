"""Protocols of text, known by their first line: HTTP, and those that greet.

Plain HTTP (RFC 9112), by its first line; the host from the request's Host field (RFC 9110 §7.2).

The preface of HTTP/2 (RFC 9113 §3.4) is recognised too, without a host name.

Protocols that tell their name in the first line: SSH (RFC 4253 §4.2), RFB (RFC 6143 §7.1.1), RTSP (RFC 7826 §6),
and the greetings of mail (RFC 5321 §4.2, RFC 9051 §7.1.1, RFC 1939 §4).
"""

import re
from itertools import permutations

from wily_sluice.recognition.opening import WAIT, Answer, Opening, Verdict
from wily_sluice.recognition.protocols.tls import host_name

_REQUEST = re.compile(rb"[A-Z]{3,16} [^ \r\n]{1,4096} HTTP/1\.[01]\r?\n")
_HOST = re.compile(rb"\r?\nhost:[ \t]*([^\s:]{1,253})", re.IGNORECASE)
_METHODS = (b"GET ", b"POST ", b"HEAD ", b"PUT ", b"DELETE ", b"OPTIONS ", b"PATCH ", b"CONNECT ", b"TRACE ")
PREFACE = b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"
LONGEST_HEAD = 4096  # bytes


def look_http(opening: Opening) -> Answer:
    """Whether either side opens with a request, or answers as if there was one."""
    waits = False
    for data in opening.streams:
        if not data or (data[:9] and any(method.startswith(data[: len(method)]) for method in (*_METHODS, PREFACE))):
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


_LINES: tuple[tuple[str, "re.Pattern[bytes]", str], ...] = (
    ("ssh", re.compile(rb"SSH-(2\.0|1\.99)-[\x21-\x7e]"), "the line with which SSH begins"),
    ("rfb", re.compile(rb"RFB \d{3}\.\d{3}\n"), "the version with which RFB begins"),
    ("rtsp", re.compile(rb"[A-Z_]{4,16} (rtsps?://\S{1,512}|\*) RTSP/[12]\.0\r\n"), "a request of RTSP"),
    ("smtp", re.compile(rb"220[ -][^\r\n]{0,400}\bE?SMTP\b", re.IGNORECASE), "the greeting of SMTP"),
    ("imap", re.compile(rb"\* (OK|PREAUTH)[ \[][^\r\n]{0,600}IMAP4", re.IGNORECASE), "the greeting of IMAP"),
    ("smtp", re.compile(rb"(EHLO|HELO|LHLO) [\x21-\x7e]{1,255}\r\n"), "the greeting to an SMTP server"),
    ("imap", re.compile(rb"[A-Za-z0-9.]{1,12} (CAPABILITY|STARTTLS)\r\n"), "the first command of IMAP"),
    ("pop3", re.compile(rb"(CAPA|APOP [^\r\n]{1,80}|STLS)\r\n"), "the first command of POP3"),
)
_POP3_COMMAND = re.compile(rb"(USER|AUTH|QUIT|NOOP)\b[^\r\n]{0,250}\r\n")
LONGEST_LINE = 700  # bytes


def look_greeting(opening: Opening) -> Answer:
    """Whether either side begins with such a line."""
    waits = False
    for data in opening.streams:
        for seen, line, evidence in _LINES:
            if line.match(data[: LONGEST_LINE + 8]):
                return Verdict(seen, evidence)
        waits = waits or (b"\n" not in data and len(data) < LONGEST_LINE)
    for greeting, command in permutations(opening.streams):
        if greeting.startswith(b"+OK") and _POP3_COMMAND.match(command):
            return Verdict("pop3", "the greeting of POP3 and a command")
    return WAIT if waits else None

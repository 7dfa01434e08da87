"""Protocols that tell their name in the first line: SSH (RFC 4253 §4.2), RFB (RFC 6143 §7.1.1), RTSP (RFC 7826 §6),
and the greetings of mail (RFC 5321 §4.2, RFC 9051 §7.1.1, RFC 1939 §4).
"""

import re
from itertools import permutations

from wily_sluice.recognition.opening import Opening
from wily_sluice.recognition.verdict import WAIT, Answer, Verdict

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


def look(opening: Opening) -> Answer:
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

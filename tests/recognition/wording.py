"""Which words the captures may hold: those of protocols, and our own made-up names. Whatever else a program says of
itself in a capture is blanked by `python -m tools.blank_captures`.

Text is looked at word by word. In packets of other bytes only runs count that look like words, since random bytes hold
short runs of letters too.
"""

import re
from collections.abc import Iterator
from pathlib import Path

LIST = Path(__file__).with_name("protocol_words.txt")
WORDS = frozenset(word for line in LIST.read_bytes().splitlines() if not line.startswith(b"#") for word in line.split())
TCP, UDP = 6, 17
RUN = re.compile(rb"[\x20-\x7e]{6,}")
TOKEN = re.compile(rb"[A-Za-z_][A-Za-z0-9_]*")
# What a client of file sharing or a measuring program puts before its random bytes.
CODE = re.compile(rb"(?:-|%2D)(?!xx)[A-Za-z]{2}[0-9A-Z]{3,4}(?:-|%2D|(?=\d%))|\b[A-Z]\d(?:-\d+){3}-")
NUMBERS = re.compile(rb"\d+(?:\.\d+){1,3}[\w-]*")  # of versions; addresses and protocols' versions have their own rule
PROTOCOLS = re.compile(
    rb"(?:HTTP|SIP|RTSP|SSH|UDP|TCP|AVP)[/-]\d\.\d|RFB 003\.008|MIME-Version: 1\.0|q=\d\.\d+|npt=\d+\.\d+|0\.0\.0\.0"
)
OURS = re.compile(
    rb"\bA\d{3,4}\b|\ba1\b|T08:00:00Z|proto-\d{3}-[a-z-]*|(?:10\.61|203\.0\.113|198\.51\.100|192\.0\.2)[\d.]*|"
    rb"z9hG4bK[\w.-]*|host\d+|\bx{2,}(?!\w)|\b(?:info_hash|peer_id|key)=[^&\s]*"
)
GREETING = re.compile(rb" 37[25] \w+ :[^\r\n]*[^\r\nx :*-][^\r\n]*")  # the message of the day (RFC 2812)
BENCODED = re.compile(rb"d\d{1,2}:[a-z_]")  # dictionaries of file sharing, which hold no lines
VERSION = re.compile(rb"1:v(\d+):(?!x+(?:e|\d+:|$))")
WORDLIKE = re.compile(rb"[a-z]{6,}|[A-Z]{6,}|[A-Z][a-z]{5,}")
SHORTEST_TEXT = 13  # bytes: fewer may be printable by chance
TEXT = 0.6  # of a payload is printable, and it is text


def is_text(payload: bytes) -> bool:
    """Whether most of it can be read, line by line."""
    printable = sum(32 <= byte < 127 or byte in b"\t\r\n" for byte in payload)
    return len(payload) >= SHORTEST_TEXT and printable >= TEXT * len(payload) and not BENCODED.search(payload)


def first_unknown(text: bytes) -> int | None:
    """Where in a line the first word or version begins that is no protocol's and not ours; None if there is none."""
    rest = OURS.sub(lambda own: b" " * len(own[0]), text)
    rest = PROTOCOLS.sub(lambda own: b" " * len(own[0]), rest)
    places = [
        word.start()
        for word in TOKEN.finditer(rest)
        if len(word[0]) > 1 and word[0] not in WORDS and not set(word[0]) <= set(b"xX_")
    ]
    return min([*places, *(number.start() for number in NUMBERS.finditer(rest))], default=None)


def strange(payload: bytes) -> Iterator[bytes]:
    """Whatever in a payload may tell which program sent it, or on what machine."""
    for pattern in (CODE, GREETING, VERSION):
        yield from (found[0] for found in pattern.finditer(payload))
    text = is_text(payload)
    for run in RUN.findall(payload):
        if text and first_unknown(run) is not None:
            yield run
        elif not text:
            yield from (word for word in WORDLIKE.findall(run) if word not in WORDS and b"xxx" not in word)


def payload_of(frame: bytes) -> bytes:
    """What TCP or UDP carries in a frame of Ethernet; nothing for other frames."""
    packet = frame[14:]
    if frame[12:14] == b"\x08\x00":
        head, protocol, end = (packet[0] & 15) * 4, packet[9], int.from_bytes(packet[2:4])
    elif frame[12:14] == b"\x86\xdd":
        head, protocol, end = 40, packet[6], 40 + int.from_bytes(packet[4:6])
    else:
        return b""
    if protocol == TCP and len(packet) > head + 12:
        return packet[head + (packet[head + 12] >> 4) * 4 : end]
    return packet[head + 8 : end] if protocol == UDP else b""

"""Signalling of media: SIP and RTSP, with the ports that they announce.

SIP (RFC 3261 §7) over UDP and TCP, with the media of session descriptions (RFC 8866). RTSP (RFC 7826): the ports of
media that its Transport fields announce (§18.54; `client_port` is of RFC 2326).
"""

import re
from ipaddress import ip_address

from wily_sluice.recognition.opening import WAIT, Answer, Opening, Verdict

_FIRST = re.compile(rb"(?:([A-Z]{3,10}) (?:sips?|tel):[^\s]{1,512} SIP/2\.0|SIP/2\.0 (\d{3}) [^\r\n]{0,200})\r\n")
_METHODS = (b"INVITE", b"ACK", b"BYE", b"CANCEL", b"REGISTER", b"OPTIONS", b"PRACK", b"SUBSCRIBE", b"NOTIFY",
            b"PUBLISH", b"INFO", b"REFER", b"MESSAGE", b"UPDATE", b"SIP/2.0 ")  # fmt: skip
_CONNECTION = re.compile(rb"^c=IN IP[46] ([0-9a-fA-F.:]{2,45})\r?$", re.MULTILINE)
_MEDIA = re.compile(rb"^m=(audio|video|text|application) (\d{1,5})(?:/\d)? [A-Z/]*RTP/", re.MULTILINE)
MOST_MEDIA = 8  # of one description


def look(opening: Opening) -> Answer:
    """Whether either side opens with a message of SIP."""
    datagrams = opening.datagrams
    heads = [datagrams[0].payload] if datagrams else [stream for stream in opening.streams if stream]
    for head in heads:
        match = _FIRST.match(head[:800])
        if match is not None:
            what = f"a {match[1].decode()} request" if match[1] else f"an answer {match[2].decode()}"
            return Verdict("sip", f"{what} of SIP")
    if datagrams:
        return None
    might = not heads or any(method.startswith(head[: len(method)]) for head in heads for method in _METHODS)
    return WAIT if might and all(len(head) < 800 for head in heads) else None


def media(message: bytes) -> list[tuple[bytes, int, str]]:
    """The media announced by a message: packed address, port, kind."""
    description = message.partition(b"\r\n\r\n")[2][:4096]
    media_ends: list[tuple[bytes, int, str]] = []
    connections = _CONNECTION.findall(description)
    for match in list(_MEDIA.finditer(description))[:MOST_MEDIA]:
        own = _CONNECTION.search(description[match.end() :].partition(b"\nm=")[0])
        word = own[1] if own is not None else connections[0] if connections else b""
        try:
            address = ip_address(word.decode("ascii")).packed
        except ValueError:
            continue
        if 0 < int(match[2]) < 65536:
            media_ends.append((address, int(match[2]), match[1].decode()))
    return media_ends


_RTSP_FIRST = re.compile(rb"RTSP/[12]\.0 \d{3}")
_TRANSPORT = re.compile(rb"^Transport:[ \t]*([^\r\n]{1,600})", re.IGNORECASE | re.MULTILINE)
_PORTS = re.compile(rb"(client|server)_port=(\d{1,5})(?:-(\d{1,5}))?")
MOST_PORTS = 8


def rtsp_media(message: bytes) -> list[tuple[bool, int]]:
    """The ports of media, each with whether it belongs to the sender of this message."""
    is_answer = _RTSP_FIRST.match(message) is not None
    ports: list[tuple[bool, int]] = []
    for field in _TRANSPORT.finditer(message[:4096]):
        for match in _PORTS.finditer(field[1]):
            of_sender = (match[1] == b"server") == is_answer
            ports += [(of_sender, int(port)) for port in (match[2], match[3]) if port and 0 < int(port) < 65536]
    return ports[:MOST_PORTS]

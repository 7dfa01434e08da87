"""The first data of a conversation, for recognition of a protocol or a remote's name."""

import ssl
import struct
from collections.abc import Callable
from typing import Final

from wily_sluice.engine.classify.header import TCP, UDP
from wily_sluice.engine.classify.known import Known

PACKETS = 12  # of RTP: more than it takes to be certain


def client_hello(name: str) -> bytes:
    """A ClientHello that asks for a server of this name (RFC 8446 §4.1.2, RFC 6066 §3)."""
    context = ssl.create_default_context()
    taken, given = ssl.MemoryBIO(), ssl.MemoryBIO()
    connection = context.wrap_bio(taken, given, server_hostname=name)
    try:
        connection.do_handshake()
    except ssl.SSLWantReadError:
        return given.read()
    raise AssertionError("a handshake that needs no answer")


def _rtp() -> list[bytes]:
    """20 ms of sound in each (RFC 3550 §5.1), of payload type 0."""
    heads = (struct.pack(">BBHII", 0x80, 0, 1000 + n, 160 * n, 0x53616C74) for n in range(PACKETS))
    return [head + bytes(160) for head in heads]


_SIP = (
    b"OPTIONS sip:desk@saltmarsh.example SIP/2.0\r\nVia: SIP/2.0/UDP 192.0.2.1;branch=z9hG4bK1\r\n"
    b"From: <sip:a@saltmarsh.example>;tag=1\r\nTo: <sip:desk@saltmarsh.example>\r\nCall-ID: 1@192.0.2.1\r\n"
    b"CSeq: 1 OPTIONS\r\nContent-Length: 0\r\n\r\n"
)
_STUN = bytes.fromhex("00010000 2112a442") + bytes(range(12))

OPENINGS: Final[dict[tuple[str, int], Callable[[], list[bytes]]]] = {
    ("tls", TCP): lambda: [client_hello("saltmarsh.example")],
    ("http", TCP): lambda: [b"GET / HTTP/1.1\r\nHost: saltmarsh.example\r\n\r\n"],
    ("sip", TCP): lambda: [_SIP],
    ("sip", UDP): lambda: [_SIP],
    ("rtp", UDP): _rtp,
    ("stun", UDP): lambda: [_STUN],
    ("stun", TCP): lambda: [_STUN],
    ("ssh", TCP): lambda: [b"SSH-2.0-saltmarsh\r\n"],
    ("rfb", TCP): lambda: [b"RFB 003.008\n"],
    ("rtsp", TCP): lambda: [b"OPTIONS rtsp://saltmarsh.example/door RTSP/1.0\r\nCSeq: 1\r\n\r\n"],
    ("smtp", TCP): lambda: [b"EHLO saltmarsh.example\r\n"],
    ("imap", TCP): lambda: [b"a1 CAPABILITY\r\n"],
    ("pop3", TCP): lambda: [b"CAPA\r\n"],
    ("bittorrent", TCP): lambda: [b"\x13BitTorrent protocol" + bytes(48)],
    ("bittorrent", UDP): lambda: [bytes.fromhex("0000041727101980000000000000abcd")],
}


def opening(known: Known, protocol: int) -> list[bytes] | None:
    """What to send for so much to become known; None where there is no way for it here."""
    if known.names:
        plain = "*" not in known.names[0] and known.seen in ("", "tls") and protocol == TCP
        return [client_hello(known.names[0])] if plain else None
    if not known.seen:
        return [b"." * 64]
    made = OPENINGS.get((known.seen, protocol))
    return made() if made is not None else None

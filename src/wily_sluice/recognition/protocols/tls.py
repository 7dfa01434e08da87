"""TLS over TCP, DTLS, and the ClientHello that they share with QUIC.

The ClientHello of TLS, QUIC and DTLS: the server's name (RFC 6066 §3), and the client's application protocols (ALPN,
RFC 7301).

Sources: RFC 8446 §4.1.2, RFC 9147 §5.3 for the cookie of DTLS.

TLS over TCP (RFC 8446): by the client's first message, which carries the server's name.

A message may be spread over several records (§5.1), and these over several segments. Where only the server's side, or
the middle of a conversation, was seen, TLS is probable.

DTLS (RFC 9147, RFC 6347): by the header of its records. It often makes the keys of calls (RFC 5764).
"""

from typing import NamedTuple

from wily_sluice.recognition.opening import SHARED, STREAM_BYTES, WAIT, Answer, Opening, Verdict
from wily_sluice.recognition.protocols.stun import is_stun

SERVER_NAME, ALPN, USE_SRTP = 0, 16, 14
MOST_EXTENSIONS = 64


class Hello(NamedTuple):
    """The relevant parts. `name` is empty if the client sends none."""

    name: str
    inside: tuple[str, ...]
    for_media: bool

    @property
    def words(self) -> str:
        """For a person."""
        text = f"a ClientHello that asks for {self.name}" if self.name else "a ClientHello without a name"
        return text + (f", to speak {' or '.join(self.inside)}" if self.inside else "")


def parse_hello(body: bytes, cookie: bool = False) -> Hello | None:
    """Read the body of a ClientHello, without the header of its message. None when it is none, or is cut short."""
    offset = 34
    for width in (1, 1, 2, 1) if cookie else (1, 2, 1):  # session, cookie, ciphers, compression
        if offset + width > len(body):
            return None
        offset += width + int.from_bytes(body[offset : offset + width])
    end = offset + 2 + int.from_bytes(body[offset : offset + 2])
    if offset + 2 > len(body):
        return Hello("", (), False) if offset == len(body) else None  # TLS 1.2 may have no extensions
    if end > len(body):
        return None
    offset += 2
    name, for_media = "", False
    inside: tuple[str, ...] = ()
    met: set[int] = set()
    for _ in range(MOST_EXTENSIONS):
        if offset + 4 > end:
            break
        kind = int.from_bytes(body[offset : offset + 2])
        size = int.from_bytes(body[offset + 2 : offset + 4])
        value = body[offset + 4 : min(offset + 4 + size, end)]
        if kind in met:
            break  # each may be there once (RFC 8446 §4.2)
        met.add(kind)
        if kind == SERVER_NAME:
            name = _server_name(value)
        elif kind == ALPN:
            inside = _inside(value)
        elif kind == USE_SRTP:
            for_media = True
        offset += 4 + size
    return Hello(name, inside, for_media)


def _server_name(value: bytes) -> str:
    if len(value) < 5 or value[2] != 0:
        return ""
    return host_name(value[5 : 5 + int.from_bytes(value[3:5])])


def _inside(value: bytes) -> tuple[str, ...]:
    names: list[str] = []
    offset = 2
    while offset < len(value) and len(names) < 8:
        size = value[offset]
        word = value[offset + 1 : offset + 1 + size]
        if word and word.isascii() and word.decode("ascii").isprintable():  # a client may throw in nonsense (RFC 8701)
            names.append(word.decode("ascii"))
        offset += 1 + size
    return tuple(names)


_ADDRESS = frozenset(b"0123456789.")  # an address is not a name
_LETTERS = frozenset(b"abcdefghijklmnopqrstuvwxyz0123456789-_.")


def host_name(raw: bytes) -> str:
    """A host name from a packet, in lower case; empty if it is not valid."""
    raw = raw.lower().rstrip(b".")
    if not 0 < len(raw) <= 253 or not _LETTERS.issuperset(raw) or _ADDRESS.issuperset(raw):
        return ""
    return raw.decode("ascii")


HANDSHAKE, APPLICATION = 22, 23
LARGEST_RECORD = 16_384 + 256  # §5.2
MOST_RECORDS = 32  # of one message


def look(opening: Opening) -> Answer:
    """Whether either side opens with TLS."""
    answers = [_of_stream(stream) for stream in opening.streams]
    for answer in answers:
        if isinstance(answer, Verdict) and answer.certain:
            return answer
    if WAIT in answers:
        return WAIT
    return next((answer for answer in answers if answer is not None), None)


def _of_stream(data: bytes) -> Answer:
    if len(data) < 6:
        return WAIT if data[:1] in (b"", b"\x16", b"\x17") else None
    if data[0] not in (HANDSHAKE, APPLICATION) or data[1] != 3 or data[2] > 4:
        return None
    if not 0 < int.from_bytes(data[3:5]) <= LARGEST_RECORD:
        return None
    if data[0] == APPLICATION:
        return Verdict("tls", "TLS records without the start of the conversation", certain=False)
    if data[5] == 2:
        return Verdict("tls", "a ServerHello", certain=False)
    if data[5] != 1:
        return None
    message = _message(data)
    if message is None:
        if len(data) < STREAM_BYTES:
            return WAIT
        return Verdict("tls", "a ClientHello that is too long to be read")
    hello = parse_hello(message)
    return Verdict("tls", hello.words, hello.name) if hello is not None else None


def _message(data: bytes) -> bytes | None:
    """The body of the first message; None while it is not all there."""
    gathered, offset = b"", 0
    for _ in range(MOST_RECORDS):
        if offset + 5 > len(data) or data[offset] != HANDSHAKE:
            break
        size = int.from_bytes(data[offset + 3 : offset + 5])
        gathered += data[offset + 5 : offset + 5 + size]
        offset += 5 + size
        if len(gathered) >= 4 and len(gathered) >= 4 + int.from_bytes(gathered[1:4]):
            return gathered[4 : 4 + int.from_bytes(gathered[1:4])]
    return None


_DTLS_VERSIONS = (b"\xfe\xff", b"\xfe\xfd")  # 1.0, and 1.2 which 1.3 shows as well
PATIENCE = 12  # datagrams
_RECORD, _MESSAGE = 13, 12  # bytes of a record's header and of a message's, of DTLS


def look_dtls(opening: Opening) -> Answer:
    """Whether one of the datagrams, but for those of STUN, is a record of DTLS."""
    parts: dict[int, bytes] = {}  # of a ClientHello, by their offset in it (RFC 9147 §5.2)
    whole = 0
    handshake = False
    for datagram in opening.datagrams:
        payload = datagram.payload
        if is_stun(payload, datagram.length):
            continue
        if len(payload) < _RECORD or not 20 <= payload[0] <= 25 or payload[1:3] not in _DTLS_VERSIONS:
            break
        if int.from_bytes(payload[11:13]) + _RECORD > datagram.length:
            break
        if payload[0] != HANDSHAKE:
            return Verdict("dtls", "a record of DTLS", certain=False)
        handshake = True
        record = 0
        while (
            record + _RECORD + _MESSAGE <= len(payload)
            and payload[record] == HANDSHAKE
            and payload[record + _RECORD] == 1
        ):
            message = record + _RECORD
            whole = int.from_bytes(payload[message + 1 : message + 4])
            offset = int.from_bytes(payload[message + 6 : message + 9])
            size = int.from_bytes(payload[message + 9 : message + 12])
            parts[offset] = payload[message + _MESSAGE : message + _MESSAGE + size]
            record += _RECORD + int.from_bytes(payload[record + 11 : record + 13])
        body = b""
        while len(body) in parts and parts[len(body)]:
            body += parts[len(body)]
        if whole and len(body) >= whole:
            hello = parse_hello(body[:whole], cookie=True)
            if hello is None:
                break
            if hello.for_media:
                opening.limit = SHARED
                return Verdict("dtls-srtp", f"{hello.words}, for the keys of media", hello.name, final=False)
            return Verdict("dtls", hello.words, hello.name)
    if not handshake:
        return None if any(not is_stun(datagram.payload, datagram.length) for datagram in opening.datagrams) else WAIT
    if whole and len(opening.datagrams) < PATIENCE:
        return WAIT  # for the rest of its ClientHello
    return Verdict("dtls", "a record of a DTLS handshake", final=False)

"""The ClientHello of TLS, QUIC and DTLS: the server's name (RFC 6066 §3), and the client's application protocols (ALPN,
RFC 7301).

Sources: RFC 8446 §4.1.2, RFC 9147 §5.3 for the cookie of DTLS.
"""

from typing import NamedTuple

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
    found: list[str] = []
    offset = 2
    while offset < len(value) and len(found) < 8:
        size = value[offset]
        word = value[offset + 1 : offset + 1 + size]
        if word and word.isascii() and word.decode("ascii").isprintable():  # a client may throw in nonsense (RFC 8701)
            found.append(word.decode("ascii"))
        offset += 1 + size
    return tuple(found)


_ADDRESS = frozenset(b"0123456789.")  # an address is not a name
_LETTERS = frozenset(b"abcdefghijklmnopqrstuvwxyz0123456789-_.")


def host_name(raw: bytes) -> str:
    """A host name from a packet, in lower case; empty if it is not valid."""
    raw = raw.lower().rstrip(b".")
    if not 0 < len(raw) <= 253 or not _LETTERS.issuperset(raw) or _ADDRESS.issuperset(raw):
        return ""
    return raw.decode("ascii")

"""DTLS (RFC 9147, RFC 6347): by the header of its records. It often makes the keys of calls (RFC 5764)."""

from wily_sluice.recognition.opening import SHARED, WAIT, Answer, Opening, Verdict
from wily_sluice.recognition.protocols.stun import is_stun
from wily_sluice.recognition.protocols.tls import parse_hello

_VERSIONS = (b"\xfe\xff", b"\xfe\xfd")  # 1.0, and 1.2 which 1.3 shows as well
PATIENCE = 12  # datagrams
_RECORD, _MESSAGE = 13, 12  # bytes of a record's header and of a message's


def look(opening: Opening) -> Answer:
    """Whether one of the datagrams, but for those of STUN, is a record of DTLS."""
    parts: dict[int, bytes] = {}  # of a ClientHello, by their offset in it (RFC 9147 §5.2)
    whole = 0
    handshake = False
    for datagram in opening.datagrams:
        payload = datagram.payload
        if is_stun(payload, datagram.length):
            continue
        if len(payload) < _RECORD or not 20 <= payload[0] <= 25 or payload[1:3] not in _VERSIONS:
            break
        if int.from_bytes(payload[11:13]) + _RECORD > datagram.length:
            break
        if payload[0] != 22:
            return Verdict("dtls", "a record of DTLS", certain=False)
        handshake = True
        record = 0
        while record + _RECORD + _MESSAGE <= len(payload) and payload[record] == 22 and payload[record + _RECORD] == 1:
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

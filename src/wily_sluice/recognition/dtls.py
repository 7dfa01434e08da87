"""DTLS (RFC 9147, RFC 6347): by the header of its records. It often makes the keys of calls (RFC 5764)."""

from wily_sluice.recognition.client_hello import parse_hello
from wily_sluice.recognition.opening import Opening
from wily_sluice.recognition.stun import is_stun
from wily_sluice.recognition.verdict import WAIT, Answer, Verdict

_VERSIONS = (b"\xfe\xff", b"\xfe\xfd")  # 1.0, and 1.2 which 1.3 shows as well
_RECORD, _MESSAGE = 13, 12  # bytes of a record's header and of a message's


def look(opening: Opening) -> Answer:
    """Whether one of the datagrams, but for those of STUN, is a record of DTLS."""
    for datagram in opening.datagrams:
        payload = datagram.payload
        if is_stun(payload, datagram.length):
            continue
        if len(payload) < _RECORD or not 20 <= payload[0] <= 25 or payload[1:3] not in _VERSIONS:
            return None
        if int.from_bytes(payload[11:13]) + _RECORD > datagram.length:
            return None
        if payload[0] == 22 and payload[13:14] == b"\x01":
            hello = parse_hello(payload[_RECORD + _MESSAGE :], cookie=True)
            if hello is not None:
                use = ", for the keys of media" if hello.for_media else ""
                return Verdict("dtls", f"{hello.words}{use}", hello.name, final=not hello.for_media)
        if payload[0] == 22:
            return Verdict("dtls", "a record of a DTLS handshake", final=False)
        return Verdict("dtls", "a record of DTLS", certain=False)
    return WAIT

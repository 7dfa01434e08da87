"""TLS over TCP (RFC 8446): by the client's first message, which carries the server's name.

A message may be spread over several records (§5.1), and these over several segments. Where only the server's side, or
the middle of a conversation, was seen, TLS is probable.
"""

from wily_sluice.recognition.opening import STREAM_BYTES, Opening
from wily_sluice.recognition.protocols.client_hello import parse_hello
from wily_sluice.recognition.verdict import WAIT, Answer, Verdict

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

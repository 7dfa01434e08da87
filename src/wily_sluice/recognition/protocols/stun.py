"""STUN, and TURN, which uses it (RFC 8489 §5, RFC 8656): by its header and its magic cookie.

It precedes the media of a call or meeting, or a game between peers, in the same conversation (RFC 7983), so later
packets may reveal more.
"""

from wily_sluice.recognition.opening import SHARED, WAIT, Answer, Opening, Verdict

COOKIE = bytes.fromhex("2112a442")
HEADER = 20  # bytes


def is_stun(payload: bytes, length: int) -> bool:
    """Whether a datagram of this length is a message of STUN."""
    return (
        len(payload) >= HEADER
        and payload[0] < 0x40
        and payload[4:8] == COOKIE
        and payload[3] & 3 == 0
        and int.from_bytes(payload[2:4]) + HEADER == length
    )


def look_tcp(opening: Opening) -> Answer:
    """Whether a stream begins with a message of STUN (RFC 8489 §6.2.2)."""
    for data in opening.streams:
        if len(data) >= HEADER and is_stun(data, int.from_bytes(data[2:4]) + HEADER):
            return Verdict("stun", "a message of STUN over TCP", final=False)
    return WAIT if any(len(data) < HEADER and (not data or data[0] < 4) for data in opening.streams) else None


def look(opening: Opening) -> Answer:
    """Whether one of the datagrams is a message of STUN."""
    for datagram in opening.datagrams:
        if is_stun(datagram.payload, datagram.length):
            opening.limit = SHARED
            kind = "request" if not datagram.payload[0] & 1 and not datagram.payload[1] & 0x10 else "message"
            return Verdict("stun", f"a {kind} of STUN", final=False)
    return WAIT if len(opening.datagrams) < 4 else None

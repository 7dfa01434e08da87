"""RTP, the sound and picture of calls (RFC 3550 §5.1), by its shape: nothing in it says that it is RTP.

A source sends packets of version 2 with one identifier (SSRC), whose sequence numbers rise by one, or by a few where
some were lost, and whose timestamps do not fall. Of random bytes, five packets would do so once in about 10^20 times.
Reports of RTCP in the same conversation (RFC 5761) are passed over, as is what RFC 7983 lets share the port.
"""

from itertools import pairwise

from wily_sluice.recognition.opening import Opening
from wily_sluice.recognition.verdict import WAIT, Answer, Verdict

PACKETS = 5  # of one source
HEADER = 12  # bytes
LARGEST_GAP = 16  # of sequence numbers
MOST_STRANGE = 12  # datagrams that are no RTP
LONGEST_STEP = 1 << 20  # of timestamps: seconds, at any clock that is in use


def look(opening: Opening) -> Answer:
    """Whether one of the sources in this conversation behaves as RTP does."""
    sources: dict[tuple[bool, bytes], list[tuple[int, int]]] = {}
    strange = 0
    for datagram in opening.datagrams:
        payload = datagram.payload
        if len(payload) < HEADER or payload[0] >> 6 != 2 or 192 <= payload[1] <= 223:
            strange += 1
            continue
        source = (datagram.up, payload[8:12])
        steps = sources.setdefault(source, [])
        steps.append((int.from_bytes(payload[2:4]), int.from_bytes(payload[4:8])))
        if len(steps) >= PACKETS and _runs(steps):
            kind = payload[1] & 0x7F
            return Verdict("rtp", f"{PACKETS} packets of one source in their order, payload type {kind}")
    if strange > MOST_STRANGE or len(sources) > 2 * MOST_STRANGE:
        return None
    return WAIT


def _runs(steps: list[tuple[int, int]]) -> bool:
    """Whether the last packets of a source follow each other."""
    last = steps[-PACKETS:]
    moved = 0
    for (number, time), (next_number, next_time) in pairwise(last):
        rise = (next_time - time) & 0xFFFFFFFF
        if not 0 < (next_number - number) & 0xFFFF <= LARGEST_GAP or rise > LONGEST_STEP:
            return False
        moved += rise
    return moved > 0

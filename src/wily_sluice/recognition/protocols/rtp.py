"""RTP, the sound and picture of calls (RFC 3550 §5.1), by its shape: it has no identifying field.

A source sends packets of version 2 with one identifier (SSRC), sequence numbers that increase by one, or by a few after
losses, and timestamps close to each other. The timestamps of pictures may decrease, because they can be sent in another
order than shown. Five packets of random bytes would match once in about 10^20. For a large picture, whose packets share
a timestamp, eight must follow each other without a gap. RTCP reports in the same conversation (RFC 5761) are skipped,
as are STUN and DTLS, which may share the port (RFC 7983).
"""

from dataclasses import dataclass, field
from itertools import pairwise

from wily_sluice.recognition.opening import WAIT, Answer, Opening, Verdict

PACKETS = 5  # of one source
PICTURE = 8  # of one picture
HALF = 1 << 31
FIRST_DYNAMIC = 96  # of payload types
STATIC_PICTURES = frozenset((25, 26, 28, 31, 32, 33, 34))  # RFC 3551 §6, table 5
HEADER = 12  # bytes
LARGEST_GAP = 16  # of sequence numbers
MOST_STRANGE = 12  # datagrams that are not RTP
LONGEST_STEP = 1 << 20  # of timestamps: seconds, at any clock that is in use
Step = tuple[int, int, int]  # sequence number, timestamp, payload type


@dataclass(slots=True)
class _Notes:
    """The last packets of each source, in one direction, by SSRC."""

    read: int = 0
    strange: int = 0
    sources: dict[tuple[bool, bytes], list[Step]] = field(default_factory=dict)


def look(opening: Opening) -> Answer:
    """Whether one of the sources in this conversation behaves as RTP does."""
    notes: _Notes = opening.notes.setdefault("rtp", _Notes())
    sources = notes.sources
    for datagram in opening.datagrams[notes.read :]:
        notes.read += 1
        payload = datagram.payload
        if payload and (payload[0] < 4 or 20 <= payload[0] < 64):
            continue
        if len(payload) < HEADER or payload[0] >> 6 != 2 or 192 <= payload[1] <= 223:
            notes.strange += 1
            continue
        source = (datagram.up, payload[8:12])
        steps = sources.setdefault(source, [])
        kind = payload[1] & 0x7F
        steps.append((int.from_bytes(payload[2:4]), int.from_bytes(payload[4:8]), kind))
        del steps[:-PICTURE]
        if len(steps) == PICTURE and _is_picture(steps):
            return Verdict("rtp", f"{PICTURE} packets of one picture of one source, payload type {kind}")
        if len(steps) >= PACKETS and _runs(steps):
            return Verdict("rtp", f"{PACKETS} packets of one source in their order, payload type {kind}")
    if notes.strange > MOST_STRANGE or len(sources) > 2 * MOST_STRANGE:
        return None
    return WAIT


def _runs(steps: list[Step]) -> bool:
    """Whether the last packets of a source are consecutive."""
    moved = 0
    for (number, time, _), (next_number, next_time, _) in pairwise(steps[-PACKETS:]):
        step = ((next_time - time + HALF) & 0xFFFFFFFF) - HALF
        if not 0 < (next_number - number) & 0xFFFF <= LARGEST_GAP or abs(step) > LONGEST_STEP:
            return False
        moved += abs(step)
    return moved > 0


def _is_picture(last: list[Step]) -> bool:
    """Whether packets of a source are consecutive, have one timestamp, and a payload type of pictures; a mere counter
    has no timestamp.
    """
    first = last[0]
    return (
        first[1] > 0
        and (first[2] >= FIRST_DYNAMIC or first[2] in STATIC_PICTURES)
        and all(
            (number - first[0]) & 0xFFFF == index and (time, kind) == first[1:]
            for index, (number, time, kind) in enumerate(last)
        )
    )

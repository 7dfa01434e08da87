"""Round trips of conversations, from the packets that pass by: by TCP's timestamps (RFC 7323 §3).

One packet of TCP in EVERY has its timestamp remembered, from when it leaves the gate. The first packet the other way
that echoes it, or a later one, ends the trip: beyond the line for a packet that went up, inside the house for one that
went down. The wait in the gate's own queues is not part of either. A conversation has one such *probe* at a time, so
the work for a packet is the same however many conversations there are.

An echo may be late by as long as the other end delays its acknowledgements, and early by the grain of its clock, which
is a millisecond or less on most hosts.
"""

from typing import TYPE_CHECKING, Final

from wily_sluice.units import SECOND, Nanoseconds

if TYPE_CHECKING:
    from wily_sluice.engine.conversations.conversation import Conversation

EVERY: Final = 16  # packets of TCP, a power of two
OLDEST: Final[Nanoseconds] = 8 * SECOND  # a probe that has had no echo for so long is given up
COMMON: Final = b"\x01\x01\x08\x0a"  # two NOPs, and the option of timestamps: how nearly all hosts begin their options
HALF: Final = 1 << 31
TCP: Final = 6


class Probe:
    """A packet whose echo is awaited: what it was diverted as, until it has left; its way, its timestamp, its times."""

    __slots__ = ("begun", "sent", "stamp", "token", "up")

    def __init__(self, token: object, up: bool, stamp: int, begun: Nanoseconds) -> None:
        self.token: object | None = token
        self.up = up
        self.stamp = stamp
        self.begun = begun
        self.sent: Nanoseconds = 0

    def left(self, now: Nanoseconds) -> None:
        """The packet leaves the gate."""
        self.sent = now
        self.token = None


class RoundTrips:
    """Of all conversations of a gate."""

    __slots__ = ("_turn",)

    def __init__(self) -> None:
        self._turn = 0

    def saw(self, conversation: "Conversation", token: object, header: bytes, up: bool, now: Nanoseconds) -> None:
        """A packet of TCP has come, with this header."""
        probe = conversation.probe
        if probe is None:
            self._turn += 1
            if self._turn & (EVERY - 1):
                return
            stamps = timestamps(header)
            if stamps is not None:
                conversation.probe = Probe(token, up, stamps >> 32, now)
        elif probe.up == up:
            if now - probe.begun > OLDEST:
                conversation.probe = None
        elif probe.sent:
            stamps = timestamps(header)
            if stamps is not None and ((stamps & 0xFFFFFFFF) - probe.stamp) & 0xFFFFFFFF < HALF:
                conversation.probe = None
                lane = conversation.up_lane
                if lane is not None:
                    lane.tally.trip(probe.up, now - probe.sent)


def timestamps(header: bytes) -> int | None:
    """The timestamp of a segment and the one that it echoes, as one number of 64 bits; None where they do not begin the
    options.
    """
    if header[0] >> 4 == 4:
        start = (header[0] & 15) * 4 + 20
    elif header[6] == TCP:
        start = 60
    else:
        return None
    if header[start : start + 4] != COMMON or len(header) < start + 12:
        return None
    return int.from_bytes(header[start + 4 : start + 12])

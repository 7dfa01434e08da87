"""Round trips of conversations, from the packets that pass by: by TCP's timestamps (RFC 7323 §3), QUIC's spin bit.

One packet of TCP in EVERY has its timestamp remembered, from when it leaves the gate. The first packet the other way
that echoes it, or a later one, ends the trip: beyond the line for a packet that went up, inside the house for one that
went down. The wait in the gate's own queues is not part of either. A conversation has one such *probe* at a time, so
the work for a packet is the same however many conversations there are.

An echo may be late by as long as the other end delays its acknowledgements, and early by the grain of its clock, which
is a millisecond or less on most hosts.

The spin bit (RFC 9000 §17.4) changes once in a round trip, in one direction and then in the other. So the time from
such an *edge* to the next one the other way is the trip on that side of the gate (RFC 9312 §3.8.2). Ends need not spin:
a conversation whose bits often change faster than on any line is taken for one that does not.

Other datagrams tell no times, but what comes back after one has left shows that the line works (`exchanged`): for the
first packet of a conversation, and for others by chance.
"""

from typing import TYPE_CHECKING, Final

from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds

if TYPE_CHECKING:
    from wily_sluice.engine.conversations.conversation import Conversation

EVERY: Final = 16  # packets of TCP, by chance: in turn, some conversations would never have theirs
MULTIPLIER: Final = 1_103_515_245  # of a linear congruential generator modulo 2**31, whose high bits are good enough
INCREMENT: Final = 12_345
MODULUS_MASK: Final = (1 << 31) - 1
CHOSEN_BELOW: Final = (1 << 31) // EVERY
OLDEST: Final[Nanoseconds] = 8 * SECOND  # a probe that has had no echo for so long is given up
COMMON: Final = b"\x01\x01\x08\x0a"  # two NOPs, and the option of timestamps: how nearly all hosts begin their options
HALF: Final = 1 << 31
TCP: Final = 6
UDP: Final = 17
PLAIN: Final = -1  # for the timestamp of a probe that is a datagram without a spin bit
FASTEST: Final[Nanoseconds] = 2 * MILLISECOND  # from edge to edge: faster is no spinning, but chance or disorder
LEAST_RUN: Final = 4  # packets with one value before an edge that ends a trip: fewer may be out of order
TELLING: Final = 4  # trips after which the shortest of a conversation says something
MOST_EARLY: Final = 4  # edges too early, and one in so many


class Probe:
    """A packet whose echo is expected: its handle until it has left, its direction, its timestamp, its times."""

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


class SpinWay:
    """One direction of a conversation: the value of its spin bit, or -1, since when, and in how many packets."""

    __slots__ = ("run", "since", "value")

    def __init__(self) -> None:
        self.value = -1
        self.since: Nanoseconds = 0
        self.run = 0


class Spin:
    """The spin bits of a conversation of QUIC: how many edges there were, and how many came too early."""

    __slots__ = ("down", "early", "edges", "up")

    def __init__(self) -> None:
        self.edges = 0
        self.early = 0
        self.up = SpinWay()
        self.down = SpinWay()


class RoundTrips:
    """Of all conversations of a gate."""

    __slots__ = ("_drawn",)

    def __init__(self) -> None:
        self._drawn = 0

    def saw(self, conversation: "Conversation", token: object, header: bytes, up: bool, now: Nanoseconds) -> None:
        """A packet of TCP has come, with this header."""
        probe = conversation.probe
        if probe is None:
            if not self._is_chosen():
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
                _trip(conversation, probe, now)

    def spun(self, conversation: "Conversation", token: object, header: bytes, up: bool, now: Nanoseconds) -> None:
        """Handle a packet with this header of a conversation that has a `spin`."""
        spin = conversation.spin
        value = spin_bit(header)
        if spin is None or value < 0:
            return
        way = spin.up if up else spin.down
        if value == way.value:
            way.run += 1
            return
        first, run, lasted = way.value < 0, way.run, now - way.since
        way.value, way.run, way.since = value, 1, now
        if first:
            return
        spin.edges += 1
        if lasted < FASTEST and run < LEAST_RUN:
            spin.early += 1
            if spin.early > MOST_EARLY and spin.early * MOST_EARLY > spin.edges:
                conversation.spin = None
                conversation.probe = None
                return
        probe = conversation.probe
        known = probe is not None and probe.up != up and probe.sent and probe.stamp >= 0
        if probe is not None and known and run >= LEAST_RUN and now - probe.begun <= OLDEST:
            _trip(conversation, probe, now)
        conversation.probe = Probe(token, up, value, now)

    def exchanged(self, conversation: "Conversation", token: object, up: bool, now: Nanoseconds) -> None:
        """A datagram without a spin bit has come."""
        probe = conversation.probe
        if probe is None:
            if up and (conversation.up_path is None or self._is_chosen()):
                conversation.probe = Probe(token, True, PLAIN, now)
        elif up:
            if now - probe.begun > OLDEST:
                conversation.probe = None
        elif probe.sent:
            conversation.probe = None
            if probe.stamp == PLAIN and conversation.up_path is not None:
                conversation.up_path.shaper.heard = probe.sent

    def _is_chosen(self) -> bool:
        """Whether this packet is to be a probe: one in EVERY, by chance."""
        self._drawn = (self._drawn * MULTIPLIER + INCREMENT) & MODULUS_MASK
        return self._drawn < CHOSEN_BELOW


def _trip(conversation: "Conversation", probe: Probe, now: Nanoseconds) -> None:
    """A packet has had its answer."""
    flow_path = conversation.up_path
    if flow_path is None:
        return
    lasted = now - probe.sent
    flow_path.tally.trip(probe.up, lasted)
    if probe.up:
        flow_path.shaper.answered = probe.sent
        conversation.trips += 1
        if conversation.trips == 1 or lasted < conversation.least:
            conversation.least = lasted
        if conversation.trips >= TELLING:
            flow_path.shaper.passed(lasted - conversation.least)


def spin_bit(header: bytes) -> int:
    """The spin bit of a packet of QUIC, 0 or 1 (RFC 9000 §17.3.1); -1 where it has none, or cannot be seen."""
    if header[0] >> 4 == 4:
        start = (header[0] & 15) * 4 + 8
    elif header[6] == UDP:
        start = 48
    else:
        return -1
    if len(header) <= start or header[start] & 0xC0 != 0x40:
        return -1
    return header[start] >> 5 & 1


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

"""Calls, look-ups of names, and echoes."""

from wily_sluice.engine.classify.header import CONTROL
from wily_sluice.engine.packet import Packet
from wily_sluice.forecast.lab.kinds.source import Course, Source
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Size

CALL_PERIOD: Nanoseconds = 20 * MILLISECOND  # RFC 3551 §4.2: 50 packets a second
CALL_PAYLOAD = 160  # bytes: 20 ms of speech at 64 kbit/s
CALL_PACKET = CALL_PAYLOAD + 40  # with 20 bytes of IPv4, 8 of UDP, 12 of RTP
PING_PACKET = 84  # an echo request with 56 bytes of data
PROBES_PER_SECOND = 5.0
LOOKUP, ANSWER = 70, 150  # bytes: a question and an answer of DNS (RFC 1035 §4.1) with headers
LOOKUPS_PER_SECOND = 0.5


class Talk(Source):
    """One way of a call: a packet of the same size every 20 ms."""

    def begin(self, _: object = None) -> None:
        """Send a packet, and the next one in its time."""
        now = self._events.now
        if now >= self._end:
            return
        self._meter.left(now)
        self._there.send(
            Packet(self._framing.cost(CALL_PACKET), self._conversation, (self._received, now), length=CALL_PACKET)
        )
        self._events.at(now + CALL_PERIOD, self.begin)

    def _received(self, packet: Packet) -> None:
        now = self._events.now
        self._meter.arrived(packet.token[1], now)
        self._meter.carried(CALL_PAYLOAD, now)


class Ping(Source):
    """Echoes at random times (a Poisson process, RFC 2330 §11.1.1), measured there and back."""

    def __init__(self, course: Course) -> None:
        super().__init__(course)
        self._often = PROBES_PER_SECOND
        self._lengths = (PING_PACKET, PING_PACKET)
        self._kind = CONTROL

    def begin(self, _: object = None) -> None:
        """Send a request, and the next one after a random time."""
        now = self._events.now
        if now >= self._end:
            return
        self._meter.left(now)
        self._there.send(self._packet(self._lengths[0], (self._turned, now)))
        self._events.at(now + round(self._random.expovariate(self._often) * SECOND), self.begin)

    def _packet(self, length: Size, token: object) -> Packet:
        return Packet(self._framing.cost(length), self._conversation, token, length=length, kind=self._kind)

    def _turned(self, packet: Packet) -> None:
        self._back.send(self._packet(self._lengths[1], (self._received, packet.token[1])))

    def _received(self, packet: Packet) -> None:
        self._meter.arrived(packet.token[1], self._events.now)


class Lookups(Ping):
    """Questions for names at random times, without a second try."""

    def __init__(self, course: Course) -> None:
        super().__init__(course)
        self._often = LOOKUPS_PER_SECOND
        self._lengths = (LOOKUP, ANSWER)
        self._kind = 0

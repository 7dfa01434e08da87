"""Applications other than transfers: a call, and a probe of the line's delay."""

from random import Random

from wily_sluice.engine.conversation import Conversation
from wily_sluice.engine.framing import Framing
from wily_sluice.engine.packet import Packet
from wily_sluice.forecast.lab.events import Events
from wily_sluice.forecast.lab.measure import Meter
from wily_sluice.forecast.lab.path import Path
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds

CALL_PERIOD: Nanoseconds = 20 * MILLISECOND  # RFC 3551 §4.2: 50 packets a second
CALL_PAYLOAD = 160  # bytes: 20 ms of speech at 64 kbit/s
CALL_PACKET = CALL_PAYLOAD + 40  # with 20 bytes of IPv4, 8 of UDP, 12 of RTP
PROBE_PACKET = 84  # an echo request with 56 bytes of data
PROBES_PER_SECOND = 5.0


class Source:
    """Whatever sends packets of one conversation until `end`, and has a meter to answer to."""

    def __init__(
        self, events: Events, conversation: Conversation, meter: Meter, end: Nanoseconds, framing: Framing
    ) -> None:
        self._events = events
        self._conversation = conversation
        self._meter = meter
        self._end = end
        self._framing = framing

    def begin(self, _: object = None) -> None:
        """Send the first of them, now."""
        raise NotImplementedError


class Talk(Source):
    """One way of a call: a packet of the same size every 20 ms."""

    def __init__(
        self,
        events: Events,
        conversation: Conversation,
        meter: Meter,
        end: Nanoseconds,
        framing: Framing,
        path: Path,
    ) -> None:
        super().__init__(events, conversation, meter, end, framing)
        self._path = path

    def begin(self, _: object = None) -> None:
        """Send a packet, and the next one in its time."""
        now = self._events.now
        if now >= self._end:
            return
        self._meter.sent += 1
        self._path.send(Packet(self._framing.cost(CALL_PACKET), self._conversation, (self._received, now)))
        self._events.at(now + CALL_PERIOD, self.begin)

    def _received(self, packet: Packet) -> None:
        now = self._events.now
        self._meter.arrived(packet.token[1], now)
        self._meter.carried(CALL_PAYLOAD, now)


class Probe(Source):
    """Echoes at random times (a Poisson process, RFC 2330 §11.1.1), measured there and back."""

    def __init__(
        self,
        events: Events,
        conversation: Conversation,
        meter: Meter,
        end: Nanoseconds,
        framing: Framing,
        there: Path,
        back: Path,
        random: Random,
    ) -> None:
        super().__init__(events, conversation, meter, end, framing)
        self._there = there
        self._back = back
        self._random = random

    def begin(self, _: object = None) -> None:
        """Send an echo request, and the next one after a random time."""
        now = self._events.now
        if now >= self._end:
            return
        self._meter.sent += 1
        self._there.send(Packet(self._framing.cost(PROBE_PACKET), self._conversation, (self._turned, now)))
        self._events.at(now + round(self._random.expovariate(PROBES_PER_SECOND) * SECOND), self.begin)

    def _turned(self, packet: Packet) -> None:
        self._back.send(Packet(self._framing.cost(PROBE_PACKET), self._conversation, (self._received, packet.token[1])))

    def _received(self, packet: Packet) -> None:
        self._meter.arrived(packet.token[1], self._events.now)

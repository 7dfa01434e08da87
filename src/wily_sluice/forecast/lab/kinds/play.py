"""A game's packets: small ones of the client, and the server's, both in ticks that are not quite even.

Times between packets and sizes of their data have extreme value (Gumbel) distributions. Source: NGMN Alliance, "Radio
Access Performance Evaluation Methodology", version 1.0 (2008), Annex A, gaming traffic, after J. Färber, "Network game
traffic modelling", NetGames 2002.

A second is playable if its packets arrive within BUDGET, all but LOST of them: the preferred one-way delay and the loss
that interactive games bear by 3GPP TS 22.105, table 1.
"""

from math import log
from typing import Final

from wily_sluice.engine.packet import Packet
from wily_sluice.forecast.lab.kinds.source import Course, Source
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds

BUDGET: Final[Nanoseconds] = 75 * MILLISECOND
LOST: Final = 0.03
HEADERS: Final = 28  # of IPv4 and UDP
LARGEST: Final = 1472
# Location and scale: ms between packets, bytes of data.
UP: Final[tuple[float, ...]] = (40.0, 6.0, 45.0, 5.7)
DOWN: Final[tuple[float, ...]] = (55.0, 6.0, 120.0, 36.0)


class Play(Source):
    """One direction of a game."""

    def __init__(self, course: Course, up: bool) -> None:
        super().__init__(course)
        self._figures = UP if up else DOWN
        self._sent: dict[int, int] = {}  # packets by seconds
        self._in_time: dict[int, int] = {}

    def begin(self, _: object = None) -> None:
        """Send a packet, and the next one in its time."""
        now = self._events.now
        if now >= self._end:
            return
        gap, gap_scale, data, data_scale = self._figures
        length = HEADERS + max(1, min(LARGEST, round(self._draw(data, data_scale))))
        self._meter.left(now)
        if self._meter.counts(now):
            second = now // SECOND
            self._sent[second] = self._sent.get(second, 0) + 1
        token = (self._received, now, length)
        self._there.send(Packet(self._framing.cost(length), self._conversation, token, length=length))
        self._events.at(now + round(max(1.0, self._draw(gap, gap_scale)) * MILLISECOND), self.begin)

    def _draw(self, location: float, scale: float) -> float:
        return location - scale * log(-log(max(self._random.random(), 1e-12)))

    def _received(self, packet: Packet) -> None:
        now = self._events.now
        _, sent, length = packet.token
        self._meter.arrived(sent, now)
        self._meter.carried(length - HEADERS, now)
        if now - sent <= BUDGET and self._meter.counts(sent):
            second = sent // SECOND
            self._in_time[second] = self._in_time.get(second, 0) + 1

    def playable(self) -> tuple[int, int]:
        """How many seconds were playable, and how many there were."""
        good = sum(self._in_time.get(second, 0) >= (1 - LOST) * sent for second, sent in self._sent.items())
        return good, len(self._sent)

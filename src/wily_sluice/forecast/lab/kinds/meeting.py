"""One way of a meeting with pictures: sound, and video in two layers whose rate follows what the line bears.

The rate is that of NADA (RFC 8698 §4), with its default parameters; the receiver reports every 100 ms how long packets
waited, how many were lost, and how much arrived. A frame is cut into packets. The base layer has a part of them, and a
frame is shown if its base arrived in time; after a base that did not, nothing is shown until the next key frame, for
which the receiver asks.
"""

from math import ceil, exp
from typing import Final

from wily_sluice.engine.packet import Packet
from wily_sluice.forecast.lab.kinds.source import Course, Source
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Rate, Size

SOUND: Final[Size] = 100 + 40  # bytes of a packet, every 20 ms
SOUND_PERIOD: Final[Nanoseconds] = 20 * MILLISECOND
FRAME_PERIOD: Final[Nanoseconds] = 40 * MILLISECOND
PIECE: Final[Size] = 1200  # bytes of data in a packet of video
HEADERS: Final = 40  # of IPv4, UDP and RTP
BASE: Final = 0.4  # of a frame
KEY: Final = 4.0  # times as large as other frames
KEY_EVERY: Final = 250  # frames
ASKED_AGAIN: Final[Nanoseconds] = SECOND  # for a key frame, at most so often
SPREAD: Final = 0.15  # of sizes of frames
IN_TIME: Final[Nanoseconds] = 400 * MILLISECOND  # one way, at most in a conversation (ITU-T G.114, G.1010)
REPORT: Final[Size] = 80
REPORT_PERIOD: Final[Nanoseconds] = 100 * MILLISECOND  # DELTA

# RFC 8698, figure 3; delays in ms, rates in bit/s.
PRIO, XREF, KAPPA, ETA, TAU = 1.0, 10.0, 0.5, 2.0, 500.0
RMIN, RMAX = 150_000.0, 2_500_000.0
QEPS, DFILT, GAMMA_MAX, QBOUND = 10.0, 120.0, 0.5, 50.0
MULTILOSS, QTH, LAMBDA, PLRREF, DLOSS, XMAX = 7.0, 50.0, 0.5, 0.01, 10.0, 500.0
LOGWIN: Final[Nanoseconds] = 500 * MILLISECOND
DELTA: Final = 100.0


class ReferenceRate:
    """The sender's reference rate (RFC 8698 §4.3), in bit/s."""

    def __init__(self) -> None:
        self.now = RMIN
        self._before = 0.0
        self._least = 1e9  # the base delay, ms

    def reported(self, delay: float, loss: float, received: float, fresh_loss: bool, round_trip: float) -> None:
        """Take a report in: the least delay of late in ms, the part lost, the rate received, whether anything was lost
        within LOGWIN.
        """
        self._least = min(self._least, delay)
        queued = delay - self._least
        warped = queued if queued < QTH or not fresh_loss else QTH * exp(-LAMBDA * (queued - QTH) / QTH)
        congestion = min(XMAX, warped + DLOSS * (loss / PLRREF) ** 2)
        if not fresh_loss and queued < QEPS:
            gamma = min(GAMMA_MAX, QBOUND / (round_trip + DELTA + DFILT))
            self.now = max(self.now, (1 + gamma) * received)
        else:
            offset = congestion - PRIO * XREF * RMAX / self.now
            change = congestion - self._before
            self.now -= KAPPA * (DELTA / TAU) * (offset / TAU) * self.now + KAPPA * ETA * (change / TAU) * self.now
        self._before = congestion
        self.now = max(RMIN, min(RMAX, self.now))


class Meeting(Source):
    """One direction. `shown` and `frames` count those of the measured time; `rates` are the rates of video."""

    def __init__(self, course: Course) -> None:
        super().__init__(course)
        self._rate = ReferenceRate()
        self._number = 0  # of the next frame
        self._packets = 0
        self._key_wanted = True
        self._asked: Nanoseconds = -ASKED_AGAIN
        self._missing: dict[int, int] = {}  # packets of the base that have not arrived, by frames
        self._broken = False
        self._expected = 0  # the next frame to be shown
        # Of the receiver, since its last report.
        self._delays: list[float] = []
        self._arrived = 0
        self._arrived_bytes = 0
        self._highest = 0
        self._counted = 0
        self._lost_at: Nanoseconds = -LOGWIN
        self.frames = 0
        self.shown = 0
        self.rates: list[Rate] = []

    def begin(self, _: object = None) -> None:
        """Begin with sound, video and reports."""
        self._speak()
        self._film()
        self._events.at(self._events.now + REPORT_PERIOD, self._report)

    def _speak(self, _: object = None) -> None:
        now = self._events.now
        if now < self._end:
            self._send(SOUND, -1, False)
            self._events.at(now + SOUND_PERIOD, self._speak)

    def _send(self, length: Size, frame: int, base: bool) -> None:
        now = self._events.now
        self._meter.left(now)
        self._packets += 1
        token = (self._received, now, length, frame, base, self._packets)
        self._there.send(Packet(self._framing.cost(length), self._conversation, token, length=length))

    def _film(self, _: object = None) -> None:
        """Send a frame."""
        now = self._events.now
        if now >= self._end:
            return
        video = max(RMIN / 2, self._rate.now - SOUND * 8 * 50)
        key = self._key_wanted or self._number % KEY_EVERY == 0
        self._key_wanted = False
        size = video * FRAME_PERIOD / SECOND / 8 * (KEY if key else 1.0) * (1 + SPREAD * self._random.gauss(0, 1))
        many = max(1, ceil(size / PIECE))
        base = max(1, ceil(many * BASE))
        each = max(50, round(size / many))
        self._missing[self._number] = base
        counted = self._meter.counts(now)
        if counted:
            self.frames += 1
            self.rates.append(round(video))
        for piece in range(many):
            self._send(each + HEADERS, self._number, piece < base)
        self._events.at(now + IN_TIME, self._is_due, (self._number, key, counted))
        self._number += 1
        self._events.at(now + FRAME_PERIOD, self._film)

    def _is_due(self, frame: tuple[int, bool, bool]) -> None:
        """The receiver shows a frame, or cannot."""
        number, key, counted = frame
        complete = self._missing.pop(number) == 0
        if complete and (key or not self._broken):
            self._broken = False
            self.shown += counted
        elif not complete:
            self._broken = True
        now = self._events.now
        if self._broken and now - self._asked >= ASKED_AGAIN:
            self._asked = now
            self._back.send(self._report_packet((self._refresh,)))

    def _refresh(self, _: Packet) -> None:
        self._key_wanted = True

    def _received(self, packet: Packet) -> None:
        now = self._events.now
        _, sent, length, frame, base, number = packet.token
        self._meter.arrived(sent, now)
        self._meter.carried(length - HEADERS, now)
        if base and frame in self._missing:
            self._missing[frame] -= 1
        self._delays.append((now - sent) / MILLISECOND)
        self._arrived += 1
        self._arrived_bytes += length
        self._highest = max(self._highest, number)

    def _report_packet(self, token: object) -> Packet:
        return Packet(self._framing.cost(REPORT), self._conversation, token, length=REPORT)

    def _report(self, _: object = None) -> None:
        """Tell the sender what arrived since the last report."""
        now = self._events.now
        if now >= self._end:
            return
        expected = self._highest - self._counted
        if expected > 0 and self._delays:
            loss = max(0.0, 1 - self._arrived / expected)
            if loss > 0:
                self._lost_at = now
            fresh = now - self._lost_at < LOGWIN
            rate = self._arrived_bytes * 8 * SECOND / REPORT_PERIOD
            token = (self._reported, min(self._delays[-15:]), loss, rate, fresh, now)
            self._back.send(self._report_packet(token))
            self._delays, self._arrived, self._arrived_bytes = [], 0, 0
            self._counted = self._highest
        self._events.at(now + REPORT_PERIOD, self._report)

    def _reported(self, packet: Packet) -> None:
        _, delay, loss, rate, fresh, sent = packet.token
        back = (self._events.now - sent) / MILLISECOND
        self._rate.reported(delay, loss, rate, fresh, delay + back)

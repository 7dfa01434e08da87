"""TCP NewReno, one way: a sender with always more to send, and a receiver that acknowledges.

Sources: RFC 5681 (slow start, congestion avoidance, fast retransmit), RFC 6582 (NewReno: one halving for all losses of
a window), RFC 2018 and 6675 (selective acknowledgement, which every host has, so that a window with many losses is
repaired in a few round trips), RFC 6298 (retransmission timer, with the 200 ms floor that deployed systems use),
RFC 6928 (initial window of 10), RFC 3465 (byte counting, L = 2), RFC 7323 (timestamps), RFC 1122 §4.2.3.2 (delayed
acknowledgements). Sequence numbers, windows and acknowledgements count whole segments.

An acknowledgement carries, beside the first segment that is missing, the one that caused it: what the first block of a
selective acknowledgement says.
"""

from collections import deque
from typing import Any

from wily_sluice.engine.framing import LARGEST_PACKET
from wily_sluice.engine.packet import Packet
from wily_sluice.forecast.lab.applications import Course, Source
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds

HEADERS = 52  # bytes: 20 of IPv4, 20 of TCP and 12 of timestamps
SEGMENT = LARGEST_PACKET - HEADERS  # bytes of data
INITIAL_WINDOW = 10.0
RECEIVE_WINDOW = 2800  # segments: 4 MB
DUPLICATES = 3
DELAYED_ACK: Nanoseconds = 40 * MILLISECOND
FIRST_TIMEOUT, SHORTEST_TIMEOUT, LONGEST_TIMEOUT = SECOND, 200 * MILLISECOND, 60 * SECOND


class Transfer(Source):
    """One connection that moves data along `there` and acknowledgements along `back`."""

    def __init__(self, course: Course) -> None:
        super().__init__(course)
        self._data_frame = course.framing.cost(LARGEST_PACKET)
        self._ack_frame = course.framing.cost(HEADERS)
        # The sender.
        self._una = 0  # the first segment that is not acknowledged
        self._next = 0  # the next to send
        self._cwnd = INITIAL_WINDOW
        self._ssthresh = float(RECEIVE_WINDOW)
        self._recover = 0  # what had been sent when the last loss was seen; until it arrives, no further halving
        self._recovering = False
        self._sacked: set[int] = set()  # arrived beyond una
        self._highest_sacked = -1
        self._judged = 0  # below this, every segment has been seen to have arrived or to be lost
        self._lost: deque[int] = deque()  # lost, and not sent again yet
        self._srtt: float | None = None
        self._rttvar = 0.0
        self._timeout: Nanoseconds = FIRST_TIMEOUT
        self._deadline: Nanoseconds = 0
        self._timer_set = False
        # The receiver.
        self._expected = 0
        self._beyond: set[int] = set()  # what came out of order
        self._unacknowledged = 0  # segments that came in order since the last acknowledgement
        self._echo: Nanoseconds = 0  # the timestamp to send back
        self._ack_timer_set = False
        self._ack_due: Nanoseconds = 0

    def begin(self, _: object = None) -> None:
        """Send the first window."""
        self._deadline = self._events.now + self._timeout
        self._send_more()

    def _send_more(self) -> None:
        """Send what the window allows: what is lost first (RFC 6675 §5), then what is new."""
        window = min(self._cwnd, RECEIVE_WINDOW)
        in_flight = self._next - self._una - len(self._sacked) - len(self._lost)
        while in_flight < window:
            if self._lost:
                self._send(self._lost.popleft())
            elif self._next - self._una < RECEIVE_WINDOW and self._events.now < self._end:
                self._send(self._next)
                self._next += 1
            else:
                break
            in_flight += 1
        if not self._timer_set and self._next > self._una:
            self._timer_set = True
            self._events.at(self._deadline, self._timer)

    def _send(self, sequence: int) -> None:
        now = self._events.now
        self._meter.left(now)
        token = (self._received, sequence, now)
        self._there.send(Packet(self._data_frame, self._conversation, token))

    def _received(self, packet: Packet) -> None:
        _, sequence, sent = packet.token
        now = self._events.now
        self._meter.arrived(sent, now)
        if sequence != self._expected:
            if sequence > self._expected:
                self._beyond.add(sequence)
            self._acknowledge(sequence)
            return
        if not self._unacknowledged:
            self._echo = sent
        self._unacknowledged += 1
        before = self._expected
        self._expected += 1
        while self._expected in self._beyond:
            self._beyond.remove(self._expected)
            self._expected += 1
        self._meter.carried((self._expected - before) * SEGMENT, now)
        if self._unacknowledged >= 2 or self._beyond or self._expected - before > 1:
            self._acknowledge(sequence)
        else:
            self._ack_due = now + DELAYED_ACK
            if not self._ack_timer_set:
                self._ack_timer_set = True
                self._events.at(self._ack_due, self._ack_timer)

    def _ack_timer(self, _: object) -> None:
        self._ack_timer_set = False
        if self._unacknowledged:
            if self._ack_due <= self._events.now:
                self._acknowledge(self._expected - 1)
            else:
                self._ack_timer_set = True
                self._events.at(self._ack_due, self._ack_timer)

    def _acknowledge(self, cause: int) -> None:
        self._unacknowledged = 0
        token = (self._acknowledged, self._expected, cause, self._echo)
        self._back.send(Packet(self._ack_frame, self._conversation, token))

    def _acknowledged(self, packet: Packet) -> None:
        _, acknowledged, cause, echo = packet.token
        if acknowledged > self._una:
            self._advance(acknowledged, echo)
        if cause > self._una and cause not in self._sacked:
            self._sacked.add(cause)
            self._highest_sacked = max(self._highest_sacked, cause)
        self._judge()
        self._send_more()

    def _advance(self, acknowledged: int, echo: Nanoseconds) -> None:
        """All before `acknowledged` has arrived."""
        now = self._events.now
        newly = acknowledged - self._una
        if self._sacked:
            self._sacked.difference_update(range(self._una, acknowledged))
        while self._lost and self._lost[0] < acknowledged:
            self._lost.popleft()
        self._una = acknowledged
        self._next = max(self._next, acknowledged)
        self._judged = max(self._judged, acknowledged)
        self._measure(now - echo)
        self._deadline = now + self._timeout
        if self._recovering:
            self._recovering = acknowledged < self._recover
        elif self._cwnd < self._ssthresh:
            self._cwnd += min(newly, 2)
        else:
            self._cwnd += newly / self._cwnd

    def _judge(self) -> None:
        """A segment is lost when three beyond it have arrived (RFC 6675 §4, IsLost by sequence)."""
        limit = self._highest_sacked - DUPLICATES + 1
        while self._judged < limit:
            if self._judged not in self._sacked:
                self._lost.append(self._judged)
                if not self._recovering and self._judged >= self._recover:
                    self._ssthresh = max((self._next - self._una - len(self._sacked)) / 2, 2.0)
                    self._cwnd = self._ssthresh
                    self._recover = self._next
                    self._recovering = True
            self._judged += 1

    def _measure(self, sample: Nanoseconds) -> None:
        """RFC 6298 §2."""
        if self._srtt is None:
            self._srtt, self._rttvar = float(sample), sample / 2
        else:
            self._rttvar += (abs(self._srtt - sample) - self._rttvar) / 4
            self._srtt += (sample - self._srtt) / 8
        self._timeout = max(SHORTEST_TIMEOUT, min(round(self._srtt + 4 * self._rttvar), LONGEST_TIMEOUT))

    def _timer(self, _: Any) -> None:
        self._timer_set = False
        now = self._events.now
        if self._next <= self._una:
            return
        if now >= self._deadline:
            if not self._recovering:
                self._ssthresh = max((self._next - self._una - len(self._sacked)) / 2, 2.0)
            # RFC 6675 §5.1: nothing that is not known to have arrived counts as under way any more.
            self._lost = deque(number for number in range(self._una, self._next) if number not in self._sacked)
            self._judged = self._next
            self._recover = self._next
            self._recovering = False
            self._cwnd = 1.0
            self._timeout = min(2 * self._timeout, LONGEST_TIMEOUT)
            self._deadline = now + self._timeout
            self._send_more()
        else:
            self._timer_set = True
            self._events.at(self._deadline, self._timer)

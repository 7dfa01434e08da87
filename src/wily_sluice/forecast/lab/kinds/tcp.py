"""One direction of TCP: a sender with unlimited data or with what it is given, and a receiver that acknowledges.

Sources: RACK-TLP (RFC 8985: a segment is lost when a later one has arrived and the reordering time has passed; a probe
finds lost tails), proportional rate reduction (RFC 6937) during recovery, selective acknowledgement (RFC 2018, which
every host has), RFC 6298 (retransmission timer, with the 200 ms floor of deployed systems), RFC 7323 (timestamps), RFC
1122 §4.2.3.2 (delayed acknowledgements). The congestion control (`congestion`) determines the window. Sequence numbers,
windows and acknowledgements count whole segments; names follow the RFCs.

An acknowledgement carries the first missing segment and the segment that caused it, which is the content of the first
block of a selective acknowledgement.

A sender with little to say does not widen its window (RFC 7661 §4.3), and begins with the initial one after an idle
time (RFC 5681 §4.1).
"""

from collections import deque
from collections.abc import Callable
from math import ceil

from wily_sluice.engine.classify.header import ACKNOWLEDGEMENT
from wily_sluice.engine.packet import LARGEST_PACKET, Packet
from wily_sluice.forecast.lab.kinds.congestion import CONTROLS, INITIAL_WINDOW, Congestion
from wily_sluice.forecast.lab.kinds.source import Course, Source
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Size

HEADERS = 52  # bytes: 20 of IPv4, 20 of TCP and 12 of timestamps
SEGMENT = LARGEST_PACKET - HEADERS  # bytes of data, outside of tunnels
RECEIVE_WINDOW = 2800  # segments: 4 MB
DUPLICATES = 3
DELAYED_ACK: Nanoseconds = 40 * MILLISECOND
FIRST_TIMEOUT, SHORTEST_TIMEOUT, LONGEST_TIMEOUT = SECOND, 200 * MILLISECOND, 60 * SECOND
SHORTEST_PROBE: Nanoseconds = 10 * MILLISECOND


class Transfer(Source):
    """One connection that moves data along `there` and acknowledgements along `back`. With `endless` it always has more
    to send; otherwise it sends what it is given by `give`.
    """

    def __init__(self, course: Course, control: str = "cubic", endless: bool = True) -> None:
        super().__init__(course)
        self._endless = endless
        self._given = 1 << 60 if endless else 0  # segments
        self._short: dict[int, int] = {}  # segments that are not full: their bytes of data
        self._ends: deque[tuple[int, Callable[[], None]]] = deque()  # for the receiver
        self._largest = course.framing.largest
        self._segment = self._largest - HEADERS
        self._closed = False
        self._data_frame = course.framing.cost(self._largest)
        self._ack_frame = course.framing.cost(HEADERS)
        # The sender.
        self.control: Congestion = CONTROLS[control](float(RECEIVE_WINDOW))
        self._una = 0  # the first segment that is not acknowledged
        self._next = 0  # the next to send
        self._sacked: set[int] = set()  # arrived beyond una
        self._lost: deque[int] = deque()  # lost, and not sent again yet
        self._is_lost: set[int] = set()
        self._sent_at: dict[int, Nanoseconds] = {}  # when each that is under way was last sent
        self._order: deque[tuple[Nanoseconds, int]] = deque()  # of all sendings, some of them outdated
        self._rack: Nanoseconds = -1  # RACK.xmit_ts: when the last sent of those that arrived was sent
        self._recover = 0  # what had been sent when the last loss was seen
        self._recovering = False
        self._prr_delivered = 0
        self._prr_out = 0
        self._recover_fs = 1
        self._quota = 0  # segments that may be sent in recovery
        self._srtt: float | None = None
        self._rttvar = 0.0
        self._min_rtt: Nanoseconds = 0
        self._timeout: Nanoseconds = FIRST_TIMEOUT
        self._probed = False  # a tail loss probe is under way
        self._reordering: Nanoseconds | None = None  # when to look again for what is lost
        self._rto_at: Nanoseconds = 0
        self._probe_at: Nanoseconds | None = None
        self._armed: Nanoseconds | None = None  # the earliest event that is set
        # The receiver.
        self._expected = 0
        self._beyond: set[int] = set()  # what came out of order
        self._unacknowledged = 0  # segments that came in order since the last acknowledgement
        self._echo: Nanoseconds = 0  # the timestamp to send back
        self._ack_timer_set = False
        self._ack_due: Nanoseconds = 0

    def begin(self, _: object = None) -> None:
        """Send the first window."""
        self._send_more()

    def give(self, size: Size, arrived: Callable[[], None]) -> None:
        """Have more to send: so many bytes, and what to call once all of them have reached the other end's program."""
        now = self._events.now
        if self._next == self._una and now > self._rto_at and self._srtt is not None:
            self.control.cwnd = min(self.control.cwnd, INITIAL_WINDOW)
        full, rest = divmod(max(1, size), self._segment)
        if rest:
            self._short[self._given + full] = rest
        self._given += full + (1 if rest else 0)
        self._ends.append((self._given, arrived))
        self._send_more()

    def close(self) -> None:
        """End at once: the far end no longer knows the connection."""
        self._closed = True

    @property
    def _flight(self) -> int:
        """Segments in flight (RFC 6675, pipe)."""
        return self._next - self._una - len(self._sacked) - len(self._lost)

    def _send_more(self) -> None:
        """Send as the window allows: lost segments first, then new ones."""
        sent = False
        if self._closed:
            return
        while (self._quota > 0) if self._recovering else (self._flight < min(self.control.cwnd, RECEIVE_WINDOW)):
            if self._lost:
                number = self._lost.popleft()
                self._is_lost.discard(number)
                self._send(number)
            elif self._has_more():
                self._next += 1
                self._send(self._next - 1)
            else:
                break
            sent = True
            if self._recovering:
                self._quota -= 1
                self._prr_out += 1
        if sent:
            self._set_timers()

    def _has_more(self) -> bool:
        """Whether there is something new to send."""
        if self._next >= self._given or self._next - self._una >= RECEIVE_WINDOW:
            return False
        return not self._endless or self._events.now < self._end

    def _send(self, sequence: int) -> None:
        now = self._events.now
        self._sent_at[sequence] = now
        self._order.append((now, sequence))
        self._meter.left(now)
        token = (self._received, sequence, now)
        if sequence in self._short:
            length = self._short[sequence] + HEADERS
            self._there.send(Packet(self._framing.cost(length), self._conversation, token, length=length))
        else:
            self._there.send(Packet(self._data_frame, self._conversation, token, length=self._largest))

    # The receiver.

    def _received(self, packet: Packet) -> None:
        _, sequence, sent = packet.token
        if self._closed:
            return
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
        self._meter.carried(self._data(before, self._expected), now)
        if self._unacknowledged >= 2 or self._beyond or self._expected - before > 1:
            self._acknowledge(sequence)
        else:
            self._ack_due = now + DELAYED_ACK
            if not self._ack_timer_set:
                self._ack_timer_set = True
                self._events.at(self._ack_due, self._ack_timer)
        while self._ends and self._ends[0][0] <= self._expected:
            self._ends.popleft()[1]()

    def _data(self, first: int, beyond: int) -> Size:
        """Bytes of data in these segments."""
        if not self._short:
            return (beyond - first) * self._segment
        return sum(self._short.get(number, self._segment) for number in range(first, beyond))

    def _ack_timer(self, _: object) -> None:
        self._ack_timer_set = False
        if self._unacknowledged and not self._closed:
            if self._ack_due <= self._events.now:
                self._acknowledge(self._expected - 1)
            else:
                self._ack_timer_set = True
                self._events.at(self._ack_due, self._ack_timer)

    def _acknowledge(self, cause: int) -> None:
        self._unacknowledged = 0
        now = self._events.now
        self._meter.acknowledged(now)
        token = (self._acknowledged, self._expected, cause, self._echo, now)
        self._back.send(Packet(self._ack_frame, self._conversation, token, length=HEADERS, kind=ACKNOWLEDGEMENT))

    # The sender, as acknowledgements come in.

    def _acknowledged(self, packet: Packet) -> None:
        if self._closed:
            return
        _, acknowledged, cause, echo, sent = packet.token
        now = self._events.now
        self._meter.heard_of(sent, now)
        if self.control.wants_delays:
            self.control.delayed(sent - echo, now)
        advanced = acknowledged - self._una
        delivered = 0
        for number in range(self._una, acknowledged):
            delivered += self._arrived(number)
        if cause > acknowledged and cause < self._next and cause not in self._sacked:
            delivered += self._arrived(cause)
            self._sacked.add(cause)
        if advanced > 0:
            self._sacked.difference_update(range(self._una, acknowledged))
            while self._lost and self._lost[0] < acknowledged:
                self._is_lost.discard(self._lost.popleft())
            self._una = acknowledged
            self._next = max(self._next, acknowledged)
            self._measure(now - echo)
            self._probed = False
        more_lost = self._detect_losses()
        if self._recovering and self._una >= self._recover:
            self._recovering = False
            self.control.cwnd = max(self.control.ssthresh, 1.0)
        elif self._recovering:
            self._reduce(delivered, advanced > 0 and not more_lost)
        elif advanced > 0 and (self._endless or 2 * (self._flight + advanced) >= self.control.cwnd):
            self.control.acked(advanced, now, now - echo, self._una, self._next)
        self._set_timers()
        self._send_more()

    def _arrived(self, number: int) -> int:
        """Note that a segment is there; how many are new, so 0 or 1."""
        sent = self._sent_at.pop(number, None)
        if sent is None:
            return 0
        self._rack = max(self._rack, sent)
        if number in self._is_lost:
            self._is_lost.discard(number)
            self._lost.remove(number)
        return 1

    def _detect_losses(self) -> bool:
        """Detect losses by RACK (RFC 8985 §6.2): segments sent well ahead of one that has arrived are lost. Returns
        whether there are any.
        """
        now = self._events.now
        dense = self._recovering or len(self._sacked) >= DUPLICATES
        window = 0 if dense else self._min_rtt // 4
        self._reordering = None
        lost = False
        while self._order:
            sent, number = self._order[0]
            if self._sent_at.get(number) != sent:
                self._order.popleft()  # it arrived, or was sent again
                continue
            if sent >= self._rack:
                break
            if sent + int(self._srtt or 0) + window > now and not dense:
                self._reordering = sent + int(self._srtt or 0) + window
                break
            self._order.popleft()
            del self._sent_at[number]
            self._lost.append(number)
            self._is_lost.add(number)
            lost = True
        if lost and not self._recovering and self._lost[0] >= self._recover:
            self._begin_recovery(now)
        elif lost and not self._recovering:
            self._begin_recovery(now, reduce=False)
        return lost

    def _begin_recovery(self, now: Nanoseconds, reduce: bool = True) -> None:
        if reduce:
            self.control.lost(self._next - self._una - len(self._sacked), now)
        self._recover = self._next
        self._recovering = True
        self._prr_delivered = self._prr_out = 0
        self._recover_fs = max(1, self._next - self._una)
        self._quota = 1  # the fast retransmit

    def _reduce(self, delivered: int, safe: bool) -> None:
        """Proportional rate reduction (RFC 6937 §3).

        After a `safe` acknowledgement, which has advanced without further losses, slow start is the bound. Otherwise
        the bound is conservative, because a queue that keeps dropping needs fewer packets in flight.
        """
        self._prr_delivered += delivered
        ssthresh = self.control.ssthresh
        flight = self._flight
        if flight > ssthresh:
            allowed = ceil(self._prr_delivered * ssthresh / self._recover_fs) - self._prr_out
        else:
            conserved = self._prr_delivered - self._prr_out
            allowed = min(int(ssthresh) - flight, max(conserved, delivered) + 1 if safe else conserved)
        self._quota = max(0, allowed)
        if self._prr_out == 0:
            self._quota = max(1, self._quota)

    def _measure(self, sample: Nanoseconds) -> None:
        """RFC 6298 §2."""
        if self._srtt is None:
            self._srtt, self._rttvar = float(sample), sample / 2
            self._min_rtt = sample
        else:
            self._rttvar += (abs(self._srtt - sample) - self._rttvar) / 4
            self._srtt += (sample - self._srtt) / 8
            self._min_rtt = min(self._min_rtt, sample)
        self._timeout = max(SHORTEST_TIMEOUT, min(round(self._srtt + 4 * self._rttvar), LONGEST_TIMEOUT))

    # Timers.

    def _set_timers(self) -> None:
        now = self._events.now
        if self._next <= self._una:
            return
        self._rto_at = now + self._timeout
        self._probe_at = None
        if self._srtt is not None and not self._probed and not self._recovering:
            # RFC 8985 §7.2: two round trips, and for a lone segment the delay of its acknowledgement.
            wait = max(SHORTEST_PROBE, round(2 * self._srtt)) + (DELAYED_ACK if self._flight == 1 else 0)
            if wait < self._timeout:
                self._probe_at = now + wait
        self._arm()

    def _arm(self) -> None:
        due = min(moment for moment in (self._rto_at, self._probe_at, self._reordering) if moment is not None)
        if self._armed is None or due < self._armed:
            self._armed = due
            self._events.at(due, self._timer, due)

    def _timer(self, due: Nanoseconds) -> None:
        if due != self._armed or self._closed:
            return
        self._armed = None
        now = self._events.now
        if self._next <= self._una:
            return
        if self._reordering is not None and now >= self._reordering:
            self._detect_losses()
            self._send_more()
        elif self._probe_at is not None and now >= self._probe_at:
            self._probe()
        elif now >= self._rto_at:
            self._time_out()
        self._arm()

    def _probe(self) -> None:
        """A tail loss probe (RFC 8985 §7.3): something new, or the last segment once more."""
        self._probed = True
        self._probe_at = None
        if self._has_more():
            self._next += 1
            self._send(self._next - 1)
        elif self._sent_at:
            self._send(max(self._sent_at))
        self._rto_at = self._events.now + self._timeout

    def _time_out(self) -> None:
        """RFC 6298 §5: nothing that is not known to have arrived counts as under way any more."""
        now = self._events.now
        if not self._recovering or self._una >= self._recover:
            self.control.timed_out(self._next - self._una - len(self._sacked), now)
        self.control.cwnd = 1.0
        self._lost = deque(number for number in range(self._una, self._next) if number not in self._sacked)
        self._is_lost = set(self._lost)
        self._sent_at.clear()
        self._order.clear()
        self._recover = self._next
        self._recovering = False
        self._probed = False
        self._timeout = min(2 * self._timeout, LONGEST_TIMEOUT)
        self._rto_at = now + self._timeout
        self._probe_at = self._reordering = None
        self._send_more()

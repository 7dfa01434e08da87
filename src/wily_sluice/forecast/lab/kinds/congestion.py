"""How much a sender of TCP has under way: one congestion control a class, found by name in CONTROLS.

- `cubic`, which hosts use by default: CUBIC (RFC 9438), with HyStart++ (RFC 9406) to leave slow start.
- `ledbat`, which gives way to all others: LEDBAT (RFC 6817), by the delay that it finds on the way.
- `newreno`: slow start and congestion avoidance of RFC 5681, with byte counting (RFC 3465, L = 2).

Windows count segments, times are nanoseconds. Names follow the RFCs: `cwnd`, `ssthresh`, W_max, K, W_est.
"""

from typing import Final

from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds

INITIAL_WINDOW: Final = 10.0  # RFC 6928
FEWEST: Final = 2.0  # segments that a loss leaves


class Congestion:
    """The window of one connection. `acked` is not called while a loss is being repaired; `delayed` is, with the
    one-way delay that an acknowledgement tells, where a control `wants_delays`.
    """

    def __init__(self, window_limit: float, wants_delays: bool = False) -> None:
        self.wants_delays = wants_delays
        self.cwnd = INITIAL_WINDOW
        self.ssthresh = window_limit

    def acked(self, segments: int, now: Nanoseconds, rtt: Nanoseconds, una: int, next_: int) -> None:
        """So many segments have arrived; `una` and `next_` are the first not acknowledged and the next to be sent."""
        raise NotImplementedError

    def delayed(self, delay: Nanoseconds, now: Nanoseconds) -> None:
        """So long was a segment on the way."""

    def lost(self, flight: float, now: Nanoseconds) -> None:
        """A loss with this many segments in flight: set `ssthresh`, which `cwnd` then approaches."""
        raise NotImplementedError

    def timed_out(self, flight: float, now: Nanoseconds) -> None:
        """A retransmission timeout: start over."""
        self.lost(flight, now)
        self.cwnd = 1.0


class NewReno(Congestion):
    """RFC 5681 §3.1 and §3.2."""

    def acked(self, segments: int, now: Nanoseconds, rtt: Nanoseconds, una: int, next_: int) -> None:
        """Grow by a segment for each, up to two, in slow start; then by one in a round trip."""
        if self.cwnd < self.ssthresh:
            self.cwnd += min(segments, 2)
        else:
            self.cwnd += segments / self.cwnd

    def lost(self, flight: float, now: Nanoseconds) -> None:
        """Halve it."""
        self.ssthresh = max(flight / 2, FEWEST)


class HyStart:
    """Says when to leave slow start, by round trips that grow longer (RFC 9406 §4.2)."""

    MIN_RTT_THRESH: Final[Nanoseconds] = 4 * MILLISECOND
    MAX_RTT_THRESH: Final[Nanoseconds] = 16 * MILLISECOND
    MIN_RTT_DIVISOR: Final = 8
    N_RTT_SAMPLE: Final = 8
    CSS_GROWTH_DIVISOR: Final = 4
    CSS_ROUNDS: Final = 5
    L: Final = 8

    def __init__(self) -> None:
        self.conservative = False  # CSS: growing, but slowly, until it is sure
        self._window_end = 0
        self._samples = 0
        self._last: Nanoseconds | None = None  # lastRoundMinRTT
        self._current: Nanoseconds | None = None
        self._baseline: Nanoseconds = 0
        self._rounds = 0

    def growth(self, segments: int) -> float:
        """The growth of the window for this many segments that arrived."""
        return min(segments, self.L) / (self.CSS_GROWTH_DIVISOR if self.conservative else 1)

    def is_over(self, rtt: Nanoseconds, una: int, next_: int) -> bool:
        """Take a sample in; True when slow start is over."""
        if una > self._window_end:
            self._window_end = next_
            self._last, self._current, self._samples = self._current, None, 0
            if self.conservative:
                self._rounds += 1
                if self._rounds >= self.CSS_ROUNDS:
                    return True
        self._samples += 1
        self._current = rtt if self._current is None else min(self._current, rtt)
        if self._samples < self.N_RTT_SAMPLE or self._last is None:
            return False
        if self.conservative:
            if self._current < self._baseline:  # it was a false alarm
                self.conservative = False
            return False
        threshold = max(self.MIN_RTT_THRESH, min(self._last // self.MIN_RTT_DIVISOR, self.MAX_RTT_THRESH))
        if self._current >= self._last + threshold:
            self._baseline = self._current
            self.conservative = True
            self._rounds = 0
        return False


class Cubic(Congestion):
    """RFC 9438 §4: after a loss the window grows with the cube of the time, flat about where the loss was.

    W_cubic(t) = C (t - K)^3 + W_max, with K = cbrt((W_max - cwnd at the beginning) / C), t in seconds.
    """

    C: Final = 0.4
    BETA: Final = 0.7
    ALPHA: Final = 3 * (1 - BETA) / (1 + BETA)  # of the window that Reno would have, §4.3

    def __init__(self, window_limit: float) -> None:
        super().__init__(window_limit)
        self._w_max = 0.0
        self._k = 0.0
        self._epoch: Nanoseconds | None = None
        self._w_est = 0.0
        self._start = HyStart()

    def window(self, t: float) -> float:
        """W_cubic, `t` seconds after the epoch began."""
        return self.C * (t - self._k) ** 3 + self._w_max

    def acked(self, segments: int, now: Nanoseconds, rtt: Nanoseconds, una: int, next_: int) -> None:
        """Slow start, or toward W_cubic a round trip from now (§4.2 to §4.5)."""
        if self.cwnd < self.ssthresh:
            self.cwnd += self._start.growth(segments)
            if self._start.is_over(rtt, una, next_):
                self.ssthresh = self.cwnd
            return
        if self._epoch is None:
            self._begin(now)
        assert self._epoch is not None
        t = (now - self._epoch) / SECOND
        # Where the window is already beyond the last loss, it grows as fast as Reno's would (§4.3).
        alpha = self.ALPHA if self._w_est < self._w_max else 1.0
        self._w_est += alpha * segments / self.cwnd
        if self.window(t) < self._w_est:
            self.cwnd = max(self.cwnd, self._w_est)
            return
        target = min(max(self.window(t + rtt / SECOND), self.cwnd), 1.5 * self.cwnd)
        self.cwnd += (target - self.cwnd) / self.cwnd * segments

    def _begin(self, now: Nanoseconds) -> None:
        """Begin an epoch of growth."""
        self._epoch = now
        if self.cwnd < self._w_max:
            self._k = ((self._w_max - self.cwnd) / self.C) ** (1 / 3)
        else:
            self._k = 0.0
            self._w_max = self.cwnd
        self._w_est = self.cwnd

    def lost(self, flight: float, now: Nanoseconds) -> None:
        """Three tenths less; and make room sooner where it was less than at the loss before (§4.6, §4.7)."""
        self._epoch = None
        self._w_max = self.cwnd * (1 + self.BETA) / 2 if self.cwnd < self._w_max else self.cwnd
        self.ssthresh = max(flight * self.BETA, FEWEST)


class Ledbat(Congestion):
    """RFC 6817 §2.4.2: the window grows until the queue on the way takes TARGET, and shrinks beyond."""

    TARGET: Final[Nanoseconds] = 100 * MILLISECOND
    GAIN: Final = 1.0
    ALLOWED_INCREASE: Final = 1.0
    CURRENT_FILTER: Final = 4  # samples, of which the least counts
    BASE_HISTORY: Final = 10  # minutes, of each of which the least is kept

    def __init__(self, window_limit: float) -> None:
        super().__init__(window_limit, wants_delays=True)
        self.cwnd = FEWEST
        self._late: list[Nanoseconds] = []
        self._bases: list[Nanoseconds] = []
        self._minute = -1

    def delayed(self, delay: Nanoseconds, now: Nanoseconds) -> None:
        """Take a sample in."""
        self._late = [*self._late[1 - self.CURRENT_FILTER :], delay]
        minute = now // (60 * SECOND)
        if minute != self._minute:
            self._minute = minute
            self._bases = [*self._bases[1 - self.BASE_HISTORY :], delay]
        elif delay < self._bases[-1]:
            self._bases[-1] = delay

    def acked(self, segments: int, now: Nanoseconds, rtt: Nanoseconds, una: int, next_: int) -> None:
        """Toward TARGET, by at most one segment in a round trip."""
        queued = min(self._late) - min(self._bases)
        self.cwnd += self.GAIN * (self.TARGET - queued) / self.TARGET * segments / self.cwnd
        self.cwnd = max(FEWEST, min(self.cwnd, next_ - una + segments + self.ALLOWED_INCREASE))

    def lost(self, flight: float, now: Nanoseconds) -> None:
        """Halve it."""
        self.ssthresh = max(flight / 2, FEWEST)


CONTROLS: dict[str, type[Congestion]] = {"cubic": Cubic, "ledbat": Ledbat, "newreno": NewReno}

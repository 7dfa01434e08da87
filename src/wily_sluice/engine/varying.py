"""Finds the usable rate of a line that varies, between two bounds, from the delay of packets.

If more is sent than a line carries, packets queue in the modem, and the delay rises above the line's own: the *excess*.
Every TICK a step is made:

- If the excess is above HIGH, the line is slower than assumed. Its rate is the rate received; toward the line, it is
  the rate sent divided by one plus the slope of the delay. The usable rate is set to that, minus a part that drains the
  queue within DRAIN. Then the rate stays until the effect can show.
- When the excess is gone, the rate returns to slightly less than the rate found.
- With hardly any excess and a backlog, the rate grows: quickly if the line was not slow recently, or far above the rate
  found then; slowly near that rate.

If the probed remote stops answering, round trips of conversations are used instead, each minus the shortest of its
conversation. A short silence counts as a full line; without information for longer, the rate stays.

The line's own delay is the minimum of the last half minute. If both directions are full, a growing delay is attributed
to both; each recovers independently.

Source: RFC 6817 §2.1, for delay above the minimum as the sign of a queue.
"""

from typing import Final

from wily_sluice.units import BYTE_TIME, MILLISECOND, SECOND, Nanoseconds, Rate, Size

TICK: Final[Nanoseconds] = 25 * MILLISECOND
LOW: Final[Nanoseconds] = 6 * MILLISECOND  # of excess
HIGH: Final[Nanoseconds] = 12 * MILLISECOND
DRAIN: Final[Nanoseconds] = 200 * MILLISECOND
LEAST_PART: Final = 0.25  # of the line's rate always passes
AFTER: Final = 0.98  # of the rate it was found to carry, once the queue is gone
WINDOW: Final[Nanoseconds] = 15 * SECOND  # half of the time over which the least delay is taken for the line's own
LOOKED_BACK: Final = 4  # ticks over which the bytes moved are averaged
SILENT: Final = 12  # ticks without an answer, after some, that count as a large excess
GIVEN_UP: Final = 80  # ticks after which silence says nothing
PASSING: Final = 8  # ticks in which conversations' round trips count
QUICK, SLOW, SLOWEST = 1.02, 1.006, 1.002  # growth in a tick


class RateFinder:
    """Of one direction. `rate` in bit/s lies between `lowest` and `highest`; `toward` says that packets pass the
    shaper before the line. `steps` counts changes downward.
    """

    def __init__(self, lowest: Rate, highest: Rate, toward: bool) -> None:
        self.lowest = lowest
        self.highest = highest
        self.rate = lowest
        self.steps = 0
        self._toward = toward
        self._least: list[Nanoseconds | None] = [None, None]  # of this window and of the one before
        self._turn: Nanoseconds = 0
        self._samples: list[Nanoseconds] = []
        self._heard = False
        self._quiet = 0
        self._passing: list[Nanoseconds | None] = []  # the least excess of conversations, by ticks
        self._passed: Nanoseconds | None = None
        self._before: Nanoseconds = 0  # excess
        self._moved: list[Size] = []
        self._hold: Nanoseconds = 0
        self._carries = 0.0  # the rate that the line was last found to carry, while the queue drains
        self._wanting = 0.0  # the same, after that

    def saw(self, delay: Nanoseconds, now: Nanoseconds) -> None:
        """Take note of a round trip over the line."""
        self._heard = True
        self._samples.append(delay)
        if now >= self._turn:
            self._turn = now + WINDOW
            self._least = [None, self._least[0]]
        least = self._least[0]
        if least is None or delay < least:
            self._least[0] = delay

    def passed(self, excess: Nanoseconds) -> None:
        """Take note of a conversation's round trip beyond its shortest."""
        if self._passed is None or excess < self._passed:
            self._passed = excess

    def begin_anew(self) -> None:
        """Start over with another remote and its round trip."""
        self._least = [None, None]
        self._turn, self._samples, self._heard, self._quiet = 0, [], False, 0

    @property
    def heard(self) -> bool:
        """Whether the remote has answered since the beginning."""
        return self._heard

    @property
    def unheard(self) -> bool:
        """Whether the remote has not answered for long."""
        return self._quiet >= GIVEN_UP

    @property
    def own_delay(self) -> Nanoseconds:
        """The line's own round trip, as far as known."""
        return min((delay for delay in self._least if delay is not None), default=0)

    def step(self, moved: Size, busy: bool, now: Nanoseconds) -> Rate:
        """The rate from now on, given the bytes moved since the last step; `busy` says that more waited."""
        self._moved = [*self._moved[1 - LOOKED_BACK :], moved]
        excess = self._excess()
        if excess is None:
            return self.rate
        slope = max(0.0, (excess - self._before) / TICK)
        self._before = excess
        if now < self._hold:
            return self.rate
        if excess > HIGH:
            self._back_off(excess, slope, now)
        elif self._carries:
            if excess <= LOW:
                self.rate = self._within(self._carries * AFTER)
                self._wanting, self._carries = self._carries, 0.0
        elif busy and excess <= LOW:
            self._grow()
        return self.rate

    def _excess(self) -> Nanoseconds | None:
        """The delay beyond the line's own now; None if unknown."""
        samples, self._samples = self._samples, []
        self._passing = [*self._passing[1 - PASSING :], self._passed]
        self._passed = None
        if samples:
            self._quiet = 0
            return min(samples) - self.own_delay
        self._quiet += 1
        if self._quiet < SILENT:
            return None
        passing = [excess for excess in self._passing if excess is not None]
        if passing:
            return min(passing)
        return 2 * DRAIN if self._heard and self._quiet < GIVEN_UP else None

    def _back_off(self, excess: Nanoseconds, slope: float, now: Nanoseconds) -> None:
        arrived = sum(self._moved) * BYTE_TIME / (len(self._moved) * TICK)
        carries = min(float(self.rate), arrived / (1 + slope) if self._toward else arrived)
        if carries <= 0:
            carries = float(self.lowest)
        carries = max(carries, float(self.lowest))
        self._carries = carries
        self.rate = self._within(carries * max(LEAST_PART, 1 - excess / DRAIN))
        self.steps += 1
        self._hold = now + self.own_delay + min(excess, DRAIN) // 2 + TICK

    def _grow(self) -> None:
        if not 0.9 * self._wanting <= self.rate < 1.2 * self._wanting:
            factor = QUICK
        elif self.rate < 1.05 * self._wanting:
            factor = SLOWEST
        else:
            factor = SLOW
        self.rate = self._within(self.rate * factor)

    def _within(self, rate: float) -> Rate:
        return round(max(self.lowest, min(self.highest, rate)))

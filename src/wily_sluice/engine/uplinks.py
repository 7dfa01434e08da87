"""The state of uplinks: whether pings over them are answered, and the usable rate of varying uplinks.

Finds the usable rate of a line that varies, between two bounds, from the delay of packets.

If more is sent than a line carries, packets queue in the modem, and the delay rises above the line's own: the *excess*.
Every TICK a step is made:

- If the excess is above HIGH, the line is slower than assumed. Its rate is the rate received; toward the line, it is
  the rate sent divided by one plus the slope of the delay. The usable rate is set to that, minus a part that drains the
  queue within DRAIN. Then the rate stays until the effect can show, and as long as the queue becomes shorter.
- When the excess is gone, the rate returns to slightly less than the rate found.
- With hardly any excess and a backlog, the rate grows: quickly if the line was not slow recently, or far above the rate
  found then; slowly near that rate.

If the probed remote stops answering, round trips of conversations are used instead, each minus the shortest of its
conversation. A short silence counts as a full line; without information for longer, the rate stays.

Delays also vary without a queue, as on most radio lines. This jitter is measured by second differences of the delay, in
which an even growth cancels out. The more of it, the further above HIGH the excess must be, or the more samples in a
row must be above, and the slower the rate grows, because it shows later that it was too much.

The line's own delay is the minimum of the last half minute. At the lower bound, which the line carries by the plan, no
queue stays; an excess that does not change there is the line's own, as after a handover to a longer path. If both
directions are full, a growing delay is attributed to both; each recovers independently.

Source: RFC 6817 §2.1, for delay above the minimum as the sign of a queue.
"""

import math
from collections.abc import Container
from typing import Final

from wily_sluice.units import BYTE_TIME, MILLISECOND, SECOND, Nanoseconds, Rate, Size

EVERY: Final[Nanoseconds] = SECOND
HOLD_DOWN: Final[Nanoseconds] = 10 * SECOND  # a line is up for so long before conversations go there again
LONGEST_HOLD: Final[Nanoseconds] = 640 * SECOND
CALM: Final[Nanoseconds] = 1800 * SECOND  # since it was last back, after which a failure is no flapping
UNPROVEN: Final = 10  # echoes in a row that have to be lost where none ever had an answer
MOST_NEEDED: Final = 20
RARE: Final = 1 / 14_400  # of echoes: so rarely may as many in a row be lost as fail a line that loses some
MEMORY: Final = 1 / 120  # the weight of one echo in the part that is lost
UNANSWERED: Final[Nanoseconds] = 30 * SECOND  # of conversations, where echoes say nothing
FORGOTTEN: Final[Nanoseconds] = 60 * SECOND


class Echoes:
    """Those over one line, one a second. The line fails when `most` in a row had no answer `within` a time, and no
    conversation had an answer in that time either; it is well again with the first answer. Where some
    echoes are always lost, it takes so many in a row that this is rare. `lost` is how many in a row had no answer;
    `answered` says that one ever had.

    They are `astray` when they have no answer while conversations have: then they say nothing, and the line fails when
    conversations have had no answer for UNANSWERED. Datagrams that come back may be a stream that goes on although
    nothing reaches its sender, so they prove nothing once other conversations have had no answer for twice as long.
    """

    __slots__ = (
        "_asked",
        "_doubted",
        "_due",
        "_heard",
        "_most",
        "_now",
        "_part",
        "_proved",
        "_sent",
        "_sequence",
        "_spoke",
        "_waiting",
        "_within",
        "answered",
        "astray",
        "lost",
    )

    def __init__(self, within: Nanoseconds, most: int) -> None:
        self._within = within
        self._most = most
        self.lost = 0
        self.answered = False
        self.astray = False
        self._now: Nanoseconds = 0
        self._part = 0.0  # of echoes that are lost while the line works
        self._asked: Nanoseconds = 0
        self._proved: Nanoseconds = 0
        self._doubted: Nanoseconds = 0  # when the first packet left since which none had an answer, or zero
        self._heard: Nanoseconds = 0
        self._spoke: Nanoseconds = 0
        self._sequence = 0
        self._sent: Nanoseconds = 0
        self._waiting = False
        self._due: Nanoseconds = -EVERY  # so that the first is sent at once, and the others as long after that

    def next(self, now: Nanoseconds) -> int:
        """The number of the next ping if it is due, or -1. Call it often, because it also counts lost pings."""
        self._now = now
        if self._waiting and now - self._sent > self._within:
            self._waiting = False
            self.lost += 1
        if self._waiting or now < self._due:
            return -1
        self._due = self._due + EVERY if self._due + EVERY > now else now + EVERY
        self._sequence = (self._sequence + 1) & 0xFFFF
        self._sent = now
        self._waiting = True
        return self._sequence

    def heard(self, sequence: int, now: Nanoseconds) -> None:
        """Take note of an answer."""
        if self._waiting and sequence == self._sequence:
            self._waiting = False
            self.answered = True
            self.astray = False
            if now - self._sent > self._within:
                self.lost += 1
                return
            if self.lost < MOST_NEEDED:  # more are an outage, which says nothing of the line while it works
                for _ in range(self.lost):
                    self._part += MEMORY * (1 - self._part)
                self._part -= MEMORY * self._part
            self.lost = 0

    def others(self, answered: Nanoseconds, asked: Nanoseconds, heard: Nanoseconds = 0, spoke: Nanoseconds = 0) -> None:
        """Take note of conversations: when the latest packet left that had an answer over this line, and when the
        latest left that should have one; `heard` and `spoke` are the same for datagrams.
        """
        if answered > self._proved or asked <= answered:
            self._doubted = 0
        elif not self._doubted:
            self._doubted = asked
        self._proved, self._asked, self._heard, self._spoke = answered, asked, heard, spoke
        if self.lost >= self.needed and self._proves():
            self.astray = True

    @property
    def needed(self) -> int:
        """How many echoes in a row have to be lost."""
        most = self._most if self.answered else max(self._most, UNPROVEN)
        if self._part > 0.01:
            most = max(most, min(MOST_NEEDED, math.ceil(math.log(RARE) / math.log(self._part))))
        return most

    def _proves(self) -> bool:
        """Whether a conversation has had an answer as recently as the echoes would have to be lost."""
        proved = self._latest_proof()
        return proved > 0 and proved > self._sent - self.needed * EVERY

    def _latest_proof(self) -> Nanoseconds:
        """When the latest packet left that shows that the line works."""
        if self._doubted and self._asked - self._doubted > 2 * UNANSWERED:
            return self._proved
        return max(self._proved, self._heard)

    @property
    def failing(self) -> bool:
        """Whether too many were lost."""
        if self.lost < self.needed:
            return False
        if self.astray:
            asked = max(self._asked, self._spoke)
            return asked - self._latest_proof() > UNANSWERED and self._now - asked < FORGOTTEN
        return not self._proves()


class UplinkHealth:
    """The state of a site's uplinks, by name. Those in `down` are unusable. One that fails again soon after it was back
    has to work for twice as long before it is used.
    """

    __slots__ = ("_back", "_hold", "_well_since", "down")

    def __init__(self) -> None:
        self.down: set[str] = set()
        self._well_since: dict[str, Nanoseconds] = {}
        self._back: dict[str, Nanoseconds] = {}
        self._hold: dict[str, Nanoseconds] = {}

    def keep(self, lines: Container[str]) -> None:
        """Forget all other uplinks, which no longer exist."""
        for gone in [line for line in self.down if line not in lines]:
            self.down.discard(gone)
            self._well_since.pop(gone, None)

    def hold(self, line: str) -> Nanoseconds:
        """How long an uplink that is down has to work before it is used."""
        return self._hold.get(line, HOLD_DOWN)

    def failed(self, line: str, now: Nanoseconds) -> bool:
        """Record a failure of an uplink; True if it was usable before."""
        self._well_since.pop(line, None)
        if line in self.down:
            return False
        back = self._back.get(line)
        flaps = back is not None and now - back < CALM
        self._hold[line] = min(LONGEST_HOLD, 2 * self.hold(line)) if flaps else HOLD_DOWN
        self.down.add(line)
        return True

    def well(self, line: str, now: Nanoseconds) -> bool:
        """Record that an uplink works; True if it becomes usable."""
        if line not in self.down or now - self._well_since.setdefault(line, now) < self.hold(line):
            return False
        self.down.discard(line)
        self._well_since.pop(line, None)
        self._back[line] = now
        return True

    def use(self, line: str, now: Nanoseconds) -> None:
        """Use an uplink at once, since there is no other."""
        if line in self.down:
            self.down.discard(line)
            self._well_since.pop(line, None)
            self._back[line] = now


TICK: Final[Nanoseconds] = 25 * MILLISECOND
LOW: Final[Nanoseconds] = 6 * MILLISECOND  # of excess
HIGH: Final[Nanoseconds] = 12 * MILLISECOND
DRAIN: Final[Nanoseconds] = 200 * MILLISECOND
LEAST_PART: Final = 0.25  # of the line's rate always passes
AGAIN, FAR_AGAIN = 0.85, 0.6  # of it, where that was too much still
AFTER: Final = 0.98  # of the rate it was found to carry, once the queue is gone
WINDOW: Final[Nanoseconds] = 15 * SECOND  # half of the time over which the least delay is taken for the line's own
LOOKED_BACK: Final = 4  # ticks over which the bytes moved are averaged
SILENT: Final = 12  # ticks without an answer, after some, that count as a large excess
GIVEN_UP: Final = 80  # ticks after which silence says nothing
PASSING: Final = 8  # ticks in which conversations' round trips count
CALM_TICKS: Final = 100  # without a step down, after which the rate found last says nothing
QUICK, SLOW, SLOWEST = 1.02, 1.006, 1.002  # growth in a tick
# Jitter: how much more excess than HIGH, in units of it, so many samples in a row must have.
TESTS: Final = ((1, 9.0), (2, 5.0), (3, 3.3), (5, 1.8), (8, 0.9), (12, 0.55))
SAMPLES: Final = 12  # that are kept
JITTER_MEMORY: Final = 1 / 64  # the weight of one sample
LEAST_JITTER: Final[Nanoseconds] = MILLISECOND // 2
LIFTED: Final = 40  # ticks at the lower bound after which an excess that does not change is the line's own delay
FLAT: Final[Nanoseconds] = 3 * MILLISECOND


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
        self._last: list[Nanoseconds] = []  # excesses of the last ticks with an answer, the latest at the end
        self._delays: list[Nanoseconds] = []  # of the last three ticks
        self._jitter = 0.0
        self.jitter: Nanoseconds = 0  # the mean difference of one delay and the next, without what grows or drains
        self._lowered: list[Nanoseconds] = []  # excesses at the lower bound
        self._moved: list[Size] = []
        self._hold: Nanoseconds = 0
        self._calm = 0  # ticks since the last step down
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
        self._last, self._delays, self._lowered, self.jitter = [], [], [], 0

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
        self._moved = [*self._moved[1 - 2 * LOOKED_BACK :], moved]
        excess = self._excess()
        if excess is None:
            return self.rate
        self._calm += 1
        before = self._last
        self._last = [*before[1 - SAMPLES :], excess]
        if self._is_lifted(excess):
            self._take_new_base()
            return self.rate
        if now < self._hold:
            return self.rate
        high = self._too_high()
        if high is not None:
            if not (self._carries and self._drains()):
                self._back_off(high, self._slope(), now)
        elif self._carries:
            if self._least_of_late() <= LOW + self.jitter // 4:
                self.rate = self._within(self._carries * AFTER)
                self._wanting, self._carries = self._carries, 0.0
        elif busy and self._least_of_late() <= LOW + self.jitter // 4:
            self._grow()
        return self.rate

    def _too_high(self) -> Nanoseconds | None:
        """The excess that a queue at the line causes; None if the samples may be jitter."""
        for many, times in TESTS:
            if many > len(self._last):
                break
            least = min(self._last[-many:])
            if least > HIGH + times * self.jitter:
                return max(LOW, least - 3 * self.jitter // (many + 1))
            if not self.jitter:
                break
        return None

    def _least_of_late(self) -> Nanoseconds:
        """The least excess of the last ticks; jitter increases their number."""
        return min(self._last[-min(8, 1 + self.jitter // MILLISECOND) :])

    def _drains(self) -> bool:
        """Whether the queue becomes shorter, as it should after a step down."""
        return len(self._last) > LOOKED_BACK and self._last[-1] < self._last[-1 - LOOKED_BACK] - LOW // 2 - self.jitter

    def _slope(self) -> float:
        """By how much the excess grows in a unit of time, from the least of as many ticks then and now."""
        window = min(6, 1 + self.jitter // MILLISECOND)
        if window > 2 and len(self._last) > 3 and min(self._last[-2:]) > HIGH + 4.0 * self.jitter:
            window = 2  # it grows by more than jitter could hide
        if len(self._last) < 2 * window:
            return 0.0
        return max(0.0, (min(self._last[-window:]) - min(self._last[-2 * window : -window])) / (window * TICK))

    def _is_lifted(self, excess: Nanoseconds) -> bool:
        """Whether the line's own delay has grown, as after a handover: at the lower bound, which the line carries, no
        queue stays.
        """
        if self.rate > self.lowest or excess <= LOW or self.lowest == self.highest:
            self._lowered = []
            return False
        self._lowered = [*self._lowered[1 - LIFTED :], excess]
        parts = [min(self._lowered[first : first + 8]) for first in range(0, len(self._lowered) - 7, 8)]
        return len(self._lowered) >= LIFTED and max(parts) - min(parts) <= FLAT + self.jitter and min(parts) > LOW

    def _take_new_base(self) -> None:
        """Take the delay of late for the line's own."""
        self._least = [self.own_delay + min(self._lowered), None]
        self._last, self._lowered, self._carries, self._hold = [], [], 0.0, 0

    def _excess(self) -> Nanoseconds | None:
        """The delay beyond the line's own now; None if unknown."""
        samples, self._samples = self._samples, []
        self._passing = [*self._passing[1 - PASSING :], self._passed]
        self._passed = None
        if samples:
            self._quiet = 0
            self._note(min(samples))
            return min(samples) - self.own_delay
        self._quiet += 1
        if self._quiet < SILENT:
            return None
        passing = [excess for excess in self._passing if excess is not None]
        if passing:
            return min(passing)
        return 2 * DRAIN if self._heard and self._quiet < GIVEN_UP else None

    def _note(self, delay: Nanoseconds) -> None:
        """Measure jitter by second differences, which a queue that grows or drains evenly does not have."""
        self._delays = [*self._delays[-2:], delay]
        if len(self._delays) == 3:
            bend = abs(self._delays[2] - 2 * self._delays[1] + self._delays[0]) / 1.73
            bend = min(bend, 10 * self._jitter + 4 * MILLISECOND)  # a single spike is no jitter
            jitter = self._jitter + (bend - self._jitter) * JITTER_MEMORY
            self._jitter = jitter
            self.jitter = round(jitter) if jitter >= LEAST_JITTER else 0

    def _back_off(self, excess: Nanoseconds, slope: float, now: Nanoseconds) -> None:
        arrived = self._arrived()
        if self._carries and self._toward:
            # What is sent while the queue drains tells nothing.
            carries = self._carries * (AGAIN if excess < DRAIN // 4 else FAR_AGAIN)
        elif self._carries:
            carries = min(self._carries, arrived)
        else:
            carries = min(float(self.rate), arrived / (1 + slope) if self._toward else arrived)
        if carries <= 0:
            carries = float(self.lowest)
        carries = max(carries, float(self.lowest))
        self._carries, self._calm = carries, 0
        self.rate = self._within(carries * max(LEAST_PART, 1 - excess / DRAIN))
        self.steps += 1
        # An echo that is sent now comes back after what waits already.
        self._hold = now + self.own_delay + min(excess, 2 * DRAIN) + (2 + LOOKED_BACK * self._toward) * TICK

    def _arrived(self) -> float:
        """The rate of late. With jitter, the better of two spans: a late packet holds up those behind it."""
        late, before = sum(self._moved[-LOOKED_BACK:]), sum(self._moved[:-LOOKED_BACK])
        if self.jitter and len(self._moved) == 2 * LOOKED_BACK:
            late = max(late, before)
        return late * BYTE_TIME / (min(LOOKED_BACK, len(self._moved)) * TICK)

    def _grow(self) -> None:
        if self._calm > CALM_TICKS or not 0.9 * self._wanting <= self.rate < 1.2 * self._wanting:
            factor, careful = QUICK, 8 * MILLISECOND
        else:
            factor, careful = SLOWEST if self.rate < 1.05 * self._wanting else SLOW, 2 * MILLISECOND
        # The more jitter, the later it shows that this was too much.
        self.rate = self._within(self.rate * (1 + (factor - 1) / (1 + self.jitter / careful)))

    def _within(self, rate: float) -> Rate:
        return round(max(self.lowest, min(self.highest, rate)))

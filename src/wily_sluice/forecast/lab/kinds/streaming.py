"""A film in segments of adaptive quality, and the player that asks for them.

The player asks for the next segment when the one before has arrived and its buffer has room. It chooses the quality by
how full its buffer is: the lowest up to RESERVOIR, the highest from CUSHION on, and linearly between. Source: T. Huang
et al., "A buffer-based approach to rate adaptation", SIGCOMM 2014 (BBA-0). Segments of a variable encoding differ in
size.
"""

from typing import Final

from wily_sluice.forecast.lab.kinds.source import Course, Source
from wily_sluice.forecast.lab.kinds.tcp import Transfer
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Rate

LADDER: Final = (400_000, 800_000, 1_600_000, 3_000_000, 5_000_000, 8_000_000)  # bit/s
SEGMENT: Final[Nanoseconds] = 4 * SECOND  # of film
RESERVOIR: Final[Nanoseconds] = 8 * SECOND
CUSHION: Final[Nanoseconds] = 24 * SECOND
BUFFER: Final[Nanoseconds] = 30 * SECOND
SPREAD: Final = 0.2  # of the sizes of segments about their mean
REQUEST: Final = 500  # bytes
THINKING: Final[Nanoseconds] = 10 * MILLISECOND  # of the server


class Film(Source):
    """One player: it plays until the end, and waits where its buffer is empty."""

    def __init__(self, down: Course, up: Course, control: str) -> None:
        super().__init__(down)
        self._answers = Transfer(down, control, endless=False)
        self._requests = Transfer(up, endless=False)
        self._begun: Nanoseconds = 0
        self._buffered: Nanoseconds = 0  # of film, at `_at`
        self._at: Nanoseconds = 0
        self._playing = False
        self._quality = 0
        self.started: Nanoseconds | None = None  # how long after it was asked for
        self.stalls = 0
        self.stalled: Nanoseconds = 0
        self.qualities: list[Rate] = []  # of segments

    def begin(self, _: object = None) -> None:
        """Ask for the first segment."""
        self._begun = self._at = self._events.now
        self._ask()

    def close(self) -> None:
        """End at once."""
        self._requests.close()
        self._answers.close()
        self._end = 0

    def _ask(self, _: object = None) -> None:
        if self._events.now < self._end:
            self._requests.give(REQUEST, self._asked)

    def _asked(self) -> None:
        self._events.at(self._events.now + THINKING, self._answer)

    def _answer(self, _: object) -> None:
        rate = LADDER[self._quality]
        size = rate * (SEGMENT // MILLISECOND) // 8000 * self._random.uniform(1 - SPREAD, 1 + SPREAD)
        self._answers.give(round(size), self._arrived)

    def _arrived(self) -> None:
        now = self._events.now
        if now >= self._end:
            return
        self.settle(now)
        self.qualities.append(LADDER[self._quality])
        self._buffered += SEGMENT
        if not self._playing:
            self._playing = True
            if self.started is None:
                self.started = now - self._begun
        self._quality = self._chosen()
        room = self._buffered + SEGMENT - BUFFER
        if room > 0:
            self._events.at(now + room, self._ask)
        else:
            self._ask()

    def ended(self) -> Nanoseconds:
        """When it ends."""
        return max(self._end, self._at)

    def settle(self, now: Nanoseconds) -> None:
        """Play from the buffer until now."""
        passed = now - self._at
        self._at = now
        if self.started is None:
            return
        if self._playing and passed > self._buffered:
            self._playing = False
            self.stalls += 1
            self.stalled += passed - self._buffered
            self._buffered = 0
        elif self._playing:
            self._buffered -= passed
        else:
            self.stalled += passed

    def _chosen(self) -> int:
        if self._buffered <= RESERVOIR:
            return 0
        part = min(1.0, (self._buffered - RESERVOIR) / (CUSHION - RESERVOIR))
        wanted = LADDER[0] + part * (LADDER[-1] - LADDER[0])
        return max(place for place, rate in enumerate(LADDER) if rate <= wanted)

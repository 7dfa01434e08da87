"""How busy a line is, and limiters that hold only while it is.

`Busyness` is the part of the usable rate that was sent of late: sums over slots of 50 ms, weighted so that a slot
counts for less the longer ago it was, with a time constant of a quarter of a second.

`Engagement` switches with hysteresis: on when the line is busier than the threshold; off only when it has been less
busy than the threshold less a tenth of the line for ten seconds together. So a load that stays around the threshold
switches it once. A limiter's own effect does not switch it off at once, though it may after those ten seconds: that
the line would be busy without the limiter cannot be seen while the limiter holds.
"""

from typing import Final

from wily_sluice.units import BYTE_TIME, MILLISECOND, SECOND, Nanoseconds, Rate, Size

SLOT: Final[Nanoseconds] = 50 * MILLISECOND
KEEP: Final = 0.8187307530779818  # exp(-50 ms / 250 ms)
LONGEST_AGO: Final = 100  # slots after which nothing is left
MARGIN: Final = 0.1  # of the line
CALM: Final[Nanoseconds] = 10 * SECOND


class Busyness:
    """Of one direction of one uplink. `rate` is the usable rate in bit/s."""

    __slots__ = ("_bytes", "_level", "_slot_end", "rate")

    def __init__(self, rate: Rate) -> None:
        self.rate = rate
        self._bytes: Size = 0
        self._level = 0.0
        self._slot_end: Nanoseconds = 0

    def sent(self, size: Size, now: Nanoseconds) -> None:
        """Count a packet."""
        if now >= self._slot_end:
            self._fold(now)
        self._bytes += size

    def level(self, now: Nanoseconds) -> float:
        """The part of the line that is in use, from 0 to 1 or a little above."""
        if now >= self._slot_end:
            self._fold(now)
        return self._level

    def _fold(self, now: Nanoseconds) -> None:
        slots = (now - self._slot_end) // SLOT + 1
        self._slot_end += slots * SLOT
        self._level = KEEP * self._level + (1 - KEEP) * self._bytes * BYTE_TIME / (self.rate * SLOT)
        self._bytes = 0
        for _ in range(min(slots - 1, LONGEST_AGO)):
            self._level *= KEEP


class Engagement:
    """Whether a limiter holds on one line. `threshold` is a part of it, from 0 to 1."""

    __slots__ = ("_calm_since", "engaged", "line", "threshold")

    def __init__(self, threshold: float, line: Busyness) -> None:
        self.threshold = threshold
        self.line = line
        self.engaged = False
        self._calm_since: Nanoseconds | None = None

    def holds(self, now: Nanoseconds) -> bool:
        """Whether it does now."""
        level = self.line.level(now)
        if not self.engaged:
            self.engaged = level > self.threshold
            self._calm_since = None
        elif level >= self.threshold - MARGIN:
            self._calm_since = None
        elif self._calm_since is None:
            self._calm_since = now
        elif now - self._calm_since >= CALM:
            self.engaged = False
        return self.engaged

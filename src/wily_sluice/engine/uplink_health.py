"""Which uplinks are usable: whether pings over them are answered, and for how long they have worked."""

from collections.abc import Container
from typing import Final

from wily_sluice.units import SECOND, Nanoseconds

EVERY: Final[Nanoseconds] = SECOND
HOLD_DOWN: Final[Nanoseconds] = 10 * SECOND  # a line is up for so long before conversations go there again
UNPROVEN: Final = 10  # echoes in a row that have to be lost where none ever had an answer


class Echoes:
    """Those over one line, one a second. The line fails when `most` in a row had no answer `within` a time; it is well
    again with the first answer. `lost` is how many in a row had none; `answered` says that one ever had.

    They are `astray` when none ever had an answer while other packets over the line did: then it is not the line that
    fails, and they say nothing.
    """

    __slots__ = ("_began", "_due", "_most", "_sent", "_sequence", "_waiting", "_within", "answered", "astray", "lost")

    def __init__(self, within: Nanoseconds, most: int) -> None:
        self._within = within
        self._most = most
        self.lost = 0
        self.answered = False
        self.astray = False
        self._began: Nanoseconds = -1
        self._sequence = 0
        self._sent: Nanoseconds = 0
        self._waiting = False
        self._due: Nanoseconds = -EVERY  # so that the first is sent at once, and the others as long after that

    def next(self, now: Nanoseconds) -> int:
        """The number of the next ping if it is due, or -1. Call it often, because it also counts lost pings."""
        if self._waiting and now - self._sent > self._within:
            self._waiting = False
            self.lost += 1
        if self._waiting or now < self._due:
            return -1
        self._due = self._due + EVERY if self._due + EVERY > now else now + EVERY
        self._sequence = (self._sequence + 1) & 0xFFFF
        self._sent = now
        if self._began < 0:
            self._began = now
        self._waiting = True
        return self._sequence

    def heard(self, sequence: int, now: Nanoseconds) -> None:
        """Take note of an answer."""
        if self._waiting and sequence == self._sequence:
            self._waiting = False
            self.answered = True
            self.astray = False
            self.lost = self.lost + 1 if now - self._sent > self._within else 0

    def others(self, sent: Nanoseconds) -> None:
        """Take note that a packet of others, which left at this time, had an answer over this line."""
        if not self.answered and self.lost >= self._most and 0 <= self._began <= sent:
            self.astray = True

    @property
    def failing(self) -> bool:
        """Whether too many were lost."""
        most = self._most if self.answered else max(self._most, UNPROVEN)
        return self.lost >= most and not self.astray


class UplinkHealth:
    """The state of a site's uplinks, by name. Those in `down` are unusable."""

    __slots__ = ("_well_since", "down")

    def __init__(self) -> None:
        self.down: set[str] = set()
        self._well_since: dict[str, Nanoseconds] = {}

    def keep(self, lines: Container[str]) -> None:
        """Forget all other uplinks, which no longer exist."""
        for gone in [line for line in self.down if line not in lines]:
            self.down.discard(gone)
            self._well_since.pop(gone, None)

    def failed(self, line: str) -> bool:
        """Record a failure of an uplink; True if it was usable before."""
        self._well_since.pop(line, None)
        if line in self.down:
            return False
        self.down.add(line)
        return True

    def well(self, line: str, now: Nanoseconds) -> bool:
        """Record that an uplink works; True if it becomes usable."""
        if line not in self.down or now - self._well_since.setdefault(line, now) < HOLD_DOWN:
            return False
        self.down.discard(line)
        self._well_since.pop(line, None)
        return True

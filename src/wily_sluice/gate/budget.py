"""A time budget for recognition, so that a flood of costly packets does not delay others.

A bucket of nanoseconds that fills at SHARE of the time, up to MOST, and is charged the time of each examination. While
it is empty, conversations stay unknown; they are examined once there is time again.
"""

from typing import Final

from wily_sluice.units import MILLISECOND, Nanoseconds

SHARE: Final = 5  # one part of so many
MOST: Final[Nanoseconds] = 20 * MILLISECOND


class Budget:
    """Of one gate. `refused` counts packets that were not looked at."""

    __slots__ = ("_at", "_left", "refused")

    def __init__(self) -> None:
        self._left: Nanoseconds = MOST
        self._at: Nanoseconds = 0
        self.refused = 0

    def allows(self, now: Nanoseconds) -> bool:
        """Whether anything is left."""
        left = self._left + (now - self._at) // SHARE
        self._left = left if left < MOST else MOST
        self._at = now
        if self._left > 0:
            return True
        self.refused += 1
        return False

    def spend(self, lasted: Nanoseconds) -> None:
        """Charge the time of an examination."""
        self._left -= lasted

"""Reports a machine that is too slow or flooded: once a minute while it lasts."""

import time

from wily_sluice.control.link.messages import Health
from wily_sluice.control.log import note

TELL_AGAIN = 60.0  # seconds
BUSY, BUSY_FOR = 0.9, 5.0  # part of the time, and seconds on end, in which the loop works: then the machine is too slow
TOO_SLOW = "packets came faster than they could be taken in: see `sluice gate cost`"
FLOODED = "more conversations opened than could be taken in, so some of their packets were dropped"
STRAINED = "shaping uses a whole core, so rates may not be reached: see `sluice gate cost`"


class Strain:
    """`health` is the gate's last report."""

    def __init__(self) -> None:
        self.health = self._told_health = Health()
        self._told_at = -TELL_AGAIN
        self._busy_since: float | None = None

    @property
    def lasting(self) -> bool:
        """Whether shaping has taken all of a processor for some time."""
        return self._busy_since is not None and time.monotonic() - self._busy_since >= BUSY_FOR

    def hear(self, health: Health) -> None:
        """Handle the gate's report."""
        before, self.health = self.health, health
        now = time.monotonic()
        if health.busy >= BUSY:
            self._busy_since = self._busy_since or now
        else:
            self._busy_since = None
        bypassed = health.bypassed - self._told_health.bypassed
        strained = self._busy_since is not None and now - self._busy_since >= BUSY_FOR
        shed = health.shed - self._told_health.shed
        if (bypassed <= 0 and shed <= 0 and not strained) or now - self._told_at < TELL_AGAIN:
            return
        self._told_at, self._told_health = now, health
        if bypassed > 0:
            note("gate.too_slow", "warning", bypassed=bypassed, busy=before.busy, why=TOO_SLOW)
        if shed > 0:
            note("gate.flooded", "warning", shed=shed, busy=before.busy, why=FLOODED)
        if bypassed <= 0 and shed <= 0:
            note("gate.strained", "warning", busy=health.busy, late_turns=health.late_turns, why=STRAINED)

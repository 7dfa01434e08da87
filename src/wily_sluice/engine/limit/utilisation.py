"""How busy a line is, and what a limiter that leaves room on it gives beyond its cap.

`Utilisation` is what came for the line of late, past its limiters: sums over slots of 50 ms, weighted so that a slot
counts for less the longer ago it was, with a time constant of 175 ms.

`Allowance` is the rate that everybody under such a limiter may have on one line: its *level*. Nobody who is over the
cap makes the line busier than the threshold; below that they may have more, and when others need the line they come
down to the cap and no further. So the level is the height up to which what the threshold leaves free fills those who
want more than the cap, max-min fair:

    sum of min(wants, level) = threshold x line - others, but the level is never below the cap

A host that is held at the level wants any amount; another one over the cap, a quarter more than it had lately.
What those use is not part of `others`, so the level does not chase its own effect. They are at most as many as fill the
line at the cap, and looked through once a slot.
"""

from typing import Final

from wily_sluice.units import BYTE_TIME, MILLISECOND, Nanoseconds, Rate, Size

SLOT: Final[Nanoseconds] = 50 * MILLISECOND
KEEP: Final = 0.7514772930752859  # exp(-50 ms / 175 ms)
LONGEST_AGO: Final = 100  # slots after which nothing is left
HELD_FOR: Final = 2  # slots after which a host no longer counts as held
GROWTH: Final = 1.25  # of what was had: so much may be wanted next
LEAVES: Final = 0.8  # of the cap: who has less is looked at no more


class Utilisation:
    """Of one direction of one uplink. `rate` is the usable rate in bit/s."""

    __slots__ = ("_bytes", "_slot_end", "_used", "rate")

    def __init__(self, rate: Rate) -> None:
        self.rate = rate
        self._bytes: Size = 0
        self._used = 0.0
        self._slot_end: Nanoseconds = 0

    def came(self, size: Size, now: Nanoseconds) -> None:
        """Count a packet that comes to the line."""
        if now >= self._slot_end:
            self._fold(now)
        self._bytes += size

    def used(self, now: Nanoseconds) -> float:
        """What came of late, in bit/s; more than the rate where much of it has to wait."""
        if now >= self._slot_end:
            self._fold(now)
        return self._used

    def _fold(self, now: Nanoseconds) -> None:
        slots = (now - self._slot_end) // SLOT + 1
        self._slot_end += slots * SLOT
        self._used = KEEP * self._used + (1 - KEEP) * self._bytes * BYTE_TIME / SLOT
        self._bytes = 0
        for _ in range(min(slots - 1, LONGEST_AGO)):
            self._used *= KEEP


class Draw:
    """What one bucket has drawn by an allowance: `used` of late, in bit/s, and `sent` bytes in this `slot`.

    `waits` while packets of it are held; `held_in` is the last slot in which it was. A `member` is looked through.
    """

    __slots__ = ("held_in", "member", "sent", "slot", "used", "waits")

    def __init__(self, slot: Nanoseconds) -> None:
        self.slot = slot
        self.sent: Size = 0
        self.used = 0.0
        self.waits = False
        self.held_in: Nanoseconds = -LONGEST_AGO
        self.member = False

    def fold(self, slot: Nanoseconds) -> None:
        """Begin another slot."""
        passed = slot - self.slot
        self.slot = slot
        self.used = KEEP * self.used + (1 - KEEP) * self.sent * BYTE_TIME / SLOT
        self.sent = 0
        for _ in range(min(passed - 1, LONGEST_AGO)):
            self.used *= KEEP


class Allowance:
    """Of one limiter on one line. `threshold` is a part of its usable rate, up to 1; `cap` is the limiter's rate."""

    __slots__ = ("_level", "_members", "_slot", "cap", "line", "threshold")

    def __init__(self, threshold: float, cap: Rate, line: Utilisation) -> None:
        self.threshold = threshold
        self.cap = cap
        self.line = line
        self._members: list[Draw] = []
        self._slot: Nanoseconds = -1
        self._level: Rate = max(cap, int(threshold * line.rate))

    def level(self, now: Nanoseconds) -> Rate:
        """What everybody under the limiter may have now, in bit/s."""
        slot = now // SLOT
        if slot != self._slot:
            self._fold(slot, now)
        return self._level

    def count(self, draw: Draw, size: Size, now: Nanoseconds) -> None:
        """Count a packet that passes."""
        slot = now // SLOT
        if slot != draw.slot:
            draw.fold(slot)
        draw.sent += size
        if not draw.member and draw.sent * BYTE_TIME > self.cap * SLOT:
            self._join(draw)

    def hold(self, draw: Draw, now: Nanoseconds, waits: bool) -> None:
        """Note that it is held at the level: packets of it wait, or have waited until now, or are too many."""
        draw.waits = waits
        draw.held_in = now // SLOT
        if not draw.member:
            self._join(draw)

    def _join(self, draw: Draw) -> None:
        draw.member = True
        self._members.append(draw)

    def _fold(self, slot: Nanoseconds, now: Nanoseconds) -> None:
        self._slot = slot
        stay: list[Draw] = []
        wants: list[float] = []
        held, drawn = 0, 0.0
        for draw in self._members:
            if draw.slot != slot:
                draw.fold(slot)
            is_held = draw.waits or slot - draw.held_in <= HELD_FOR
            if not is_held and draw.used < LEAVES * self.cap:
                draw.member = False
                continue
            stay.append(draw)
            drawn += draw.used
            if is_held:
                held += 1
            else:
                wants.append(draw.used * GROWTH)
        self._members = stay
        free = self.threshold * self.line.rate
        left = free - max(0.0, self.line.used(now) - drawn)
        wants.sort()
        filling = len(wants) + held
        highest = 0.0
        for want in wants:
            if want * filling > left:
                break
            left -= want
            filling -= 1
            highest = want
        level = left / filling if filling else highest + left
        self._level = max(self.cap, int(min(level, free)))

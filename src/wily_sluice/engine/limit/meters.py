"""Meters: of a rate by colours, and of how busy a line is.

Meters that colour packets: inside the rate, in between, and above.

Sources: RFC 2697 (single rate: committed and excess burst) and RFC 2698 (two rates: committed and peak), both in their
colour-blind mode. Names follow them: Tc and Te, or Tc and Tp, are the tokens of two buckets.

Units: rates in bit/s, bursts and sizes in bytes, times in ns. Tokens are kept in bit/s x ns, so nothing is rounded.

How busy a line is, and the extra rate that a limiter allows while the line has room.

`Utilisation` is the recent arrival rate for the line, after the limiters: sums over slots of 50 ms, with exponentially
decreasing weights and a time constant of 175 ms.

`Allowance` is the rate of each member of such a limiter on one line, its *level*. Members above the cap never make the
line busier than the threshold. Below it they share spare capacity, and when others need the line they fall back to the
cap and no further. The level is the max-min fair share of the free capacity below the threshold:

sum of min(wants, level) = threshold x line - others, but the level is never below the cap

A member held at the level wants an unlimited rate; one above the cap wants a quarter more than its recent rate. Their
use is excluded from `others`, so the level does not chase its own effect. There are at most as many members as fill the
line at the cap, and they are updated once per slot.
"""

from typing import Final

from wily_sluice.units import BYTE_TIME, MILLISECOND, Nanoseconds, Rate, Size

GREEN: Final = 0
YELLOW: Final = 1
RED: Final = 2


class ThreeColour:
    """One meter. With a `peak` it has two rates, and `second_burst` is the peak's; else it is the excess burst.

    Full at the beginning. Raises ValueError for rates and bursts that the RFCs exclude.
    """

    __slots__ = ("_at", "_peak", "_rate", "_second", "_second_burst", "_second_rate", "_tc", "_tc_burst")

    def __init__(self, rate: Rate, burst: Size, second_burst: Size, peak: Rate | None = None) -> None:
        if rate < 1 or burst < 0 or second_burst < 0 or not (burst or second_burst):
            raise ValueError(f"no meter has a rate of {rate} bit/s and bursts of {burst} and {second_burst} bytes")
        if peak is not None and (peak < rate or not (burst and second_burst)):
            raise ValueError(f"a peak of {peak} bit/s is below the rate of {rate} bit/s, or a burst is zero")
        self._rate = rate
        self._second_rate = peak or 0
        self._tc_burst = self._tc = burst * BYTE_TIME
        self._second_burst = self._second = second_burst * BYTE_TIME
        self._at: Nanoseconds | None = None
        self._peak = self._second_rate

    def go_at(self, rate: Rate) -> None:
        """Measure by another rate from now on; a peak below it is that rate."""
        self._rate = rate
        if self._peak:
            self._second_rate = self._peak if self._peak > rate else rate

    def colour(self, size: Size, now: Nanoseconds) -> int:
        """The colour of a packet that comes now; its tokens are taken."""
        since = now - self._at if self._at is not None else 0
        self._at = now
        cost = size * BYTE_TIME
        if self._second_rate:
            return self._of_two_rates(cost, since)
        self._tc += since * self._rate
        if self._tc > self._tc_burst:
            # RFC 2697 §3: what the first bucket cannot hold goes to the second.
            self._second = min(self._second_burst, self._second + self._tc - self._tc_burst)
            self._tc = self._tc_burst
        if self._tc >= cost:
            self._tc -= cost
            return GREEN
        if self._second >= cost:
            self._second -= cost
            return YELLOW
        return RED

    def _of_two_rates(self, cost: int, since: Nanoseconds) -> int:
        self._tc = min(self._tc_burst, self._tc + since * self._rate)
        self._second = min(self._second_burst, self._second + since * self._second_rate)
        if self._second < cost:
            return RED
        self._second -= cost
        if self._tc < cost:
            return YELLOW
        self._tc -= cost
        return GREEN


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
        """Count a packet that arrives for the line."""
        if now >= self._slot_end:
            self._fold(now)
        self._bytes += size

    def used(self, now: Nanoseconds) -> float:
        """The recent arrival rate in bit/s; more than the rate of the line while there is a backlog."""
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
    """One bucket's use of an allowance: `used` recently, in bit/s, and `sent` bytes in this `slot`.

    `waits` while packets are held; `held_in` is the last slot with held packets. A `member` is included in updates.
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
        """The present rate of each member, in bit/s."""
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
        """Note that the bucket is held at the level: it has waiting packets, or just had, or exceeds the level."""
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

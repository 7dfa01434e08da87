"""A site: the shapers of all its lines, in both directions, with the conversations and limiters that they share."""

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from typing import Final

from wily_sluice.engine.classify.classifier import Router
from wily_sluice.engine.classify.condition import Clock
from wily_sluice.engine.classify.neighbours import CHANGED, Neighbours
from wily_sluice.engine.conversations.aggregate import AggregateFlow
from wily_sluice.engine.conversations.conversation import ConversationTable
from wily_sluice.engine.conversations.watch import WatchSpec
from wily_sluice.engine.limit.limiter import Ledger
from wily_sluice.engine.limit.limiter_bank import LimiterBank
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.shaper import Shaper
from wily_sluice.units import SECOND, Direction, Nanoseconds

LONGEST_PAUSE: Final[Nanoseconds] = 16 * SECOND


class SiteSpec:
    """The parts of a site other than its shapers and limiters.

    `kinds` are the kinds of packets in rules, as bits; `recognises` means that rules or records need protocols or
    names. `schedules_at` returns the open schedules at a time, as bits; `limiter_schedules` has each limiter's schedule
    index, or -1; `rules_scheduled` means that rules use schedules.
    """

    __slots__ = (
        "clock", "kinds", "limiter_schedules", "recognises", "rules_scheduled", "schedules_at", "watch",
        "watches_dscps",
    )  # fmt: skip

    def __init__(
        self,
        clock: Clock,
        kinds: int,
        recognises: bool,
        watches_dscps: bool,
        watch: WatchSpec,
        schedules_at: Callable[[datetime], int],
        limiter_schedules: Sequence[int],
        rules_scheduled: bool,
    ) -> None:
        self.clock = clock
        self.kinds = kinds
        self.recognises = recognises
        self.watches_dscps = watches_dscps
        self.watch = watch
        self.schedules_at = schedules_at
        self.limiter_schedules = limiter_schedules
        self.rules_scheduled = rules_scheduled


class SiteEngine:
    """All shapers of a site, by uplink and direction; `specs` are the specifications of their trees.

    Until `at` is called, all schedules count as open.
    """

    def __init__(
        self,
        spec: SiteSpec,
        shapers: Mapping[tuple[str, Direction], Shaper],
        specs: Mapping[tuple[str, Direction], QueueSpec],
        banks: Mapping[Direction, LimiterBank],
        neighbours: Neighbours,
        aggregate: AggregateFlow | None,
        router: Router | None = None,
    ) -> None:
        self._spec = spec
        self._specs = specs
        self.shapers = dict(shapers)
        self.banks = dict(banks)
        self.ledgers: dict[str, Ledger] = {}
        self.neighbours = neighbours
        self.router = router if router is not None else Router(())
        self.conversations = ConversationTable(watch_dscps=spec.watches_dscps, watch=spec.watch, aggregate=aggregate)
        self._stale = False
        self._sorted_again: Nanoseconds = -SECOND
        self._pause: Nanoseconds = SECOND  # between two times
        self._list_ledgers()

    @property
    def clock(self) -> Clock:
        """Which schedules hold."""
        return self._spec.clock

    @property
    def kinds(self) -> int:
        """The kinds of packets that rules ask for, as bits."""
        return self._spec.kinds

    @property
    def recognises(self) -> bool:
        """Whether protocols or names must be recognised."""
        return self._spec.recognises

    def _list_ledgers(self) -> None:
        self.ledgers = {
            limiter.spec.name: limiter.ledger
            for bank in self.banks.values()
            for limiter in bank.limiters
            if limiter is not None and limiter.ledger is not None
        }

    def reconfigure(self, other: "SiteEngine", now: Nanoseconds) -> None:
        """Switch to the plan of `other`, a new engine, keeping packets, conversations and counters.

        `other` is used up. The caller releases packets queued in removed shapers. Call `at` next.
        """
        self._spec = other._spec
        self.router = other.router
        other.neighbours.succeed(self.neighbours)
        self.neighbours = other.neighbours
        self.conversations.reconfigure(other._spec.watches_dscps, other._spec.watch, other.conversations.aggregate)
        for direction, bank in self.banks.items():
            bank.reconfigure(other.banks[direction], now)
        self._list_ledgers()
        before, self._specs, self.shapers = self.shapers, other._specs, {}
        for key, shaper in other.shapers.items():
            old = before.get(key)
            if old is None:
                shaper.bank = self.banks[key[1]]
            else:
                old.reconfigure(shaper, self._specs[key], now)
            self.shapers[key] = old or shaper

    def sort_again(self) -> None:
        """Sort every conversation again at its next packet."""
        for shaper in self.shapers.values():
            shaper.epoch += 1

    def learn(self, address: bytes, hardware: bytes, now: Nanoseconds) -> None:
        """Take note of the hardware address of who sent from a local address."""
        if self.neighbours.learn(address, hardware, now) == CHANGED:
            self.neighbours_changed(now)

    def neighbours_changed(self, now: Nanoseconds) -> None:
        """Sort conversations again, since an address is now another device's; at most once a second, and less and less
        often while somebody takes ever new addresses.
        """
        passed = now - self._sorted_again
        if passed >= self._pause:
            self._pause = min(2 * self._pause, LONGEST_PAUSE) if passed < 2 * self._pause else SECOND
            self._sorted_again, self._stale = now, False
            self.sort_again()
        else:
            self._stale = True

    def settle(self, now: Nanoseconds) -> None:
        """Do postponed work when it is due. Call it regularly."""
        if self._stale:
            self.neighbours_changed(now)

    def at(self, moment: datetime) -> bool:
        """Follow the schedules to a moment, given in the site's time zone. True when something changed."""
        return self.keep_to(self._spec.schedules_at(moment))

    def keep_to(self, bits: int) -> bool:
        """Apply the schedules with a bit in this set. True if something changed."""
        changed = bits != self.clock.open and self._spec.rules_scheduled
        self.clock.open = bits
        for bank in self.banks.values():
            for index, limiter in zip(self._spec.limiter_schedules, bank.limiters, strict=True):
                active = index < 0 or bool(bits >> index & 1)
                if limiter is not None and limiter.active != active:
                    limiter.active = active
                    changed = True
        if changed:
            self.sort_again()
        return changed

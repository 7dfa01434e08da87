"""Quota use, between the engine's ledgers and the process that stores it."""

import time
from collections.abc import Callable, Set
from datetime import datetime
from typing import Any

from wily_sluice.engine.site import SiteEngine
from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.process import BackgroundTasks
from wily_sluice.gate.observers import Keeper
from wily_sluice.plan.model import Plan
from wily_sluice.plan.schedules.moment import period_start
from wily_sluice.units import SECOND, Nanoseconds

RETRY = 2.0  # seconds
KEEP_EVERY: Nanoseconds = 5 * SECOND


class Quotas:
    """Of one gate. Its engine and threads may change, so they come as calls. Without a keeper, nothing is kept."""

    def __init__(
        self,
        keeper: Keeper | None,
        engine: Callable[[], SiteEngine],
        background: Callable[[], BackgroundTasks],
        happened: Callable[..., None],
    ) -> None:
        self._keeper = keeper
        self._engine = engine
        self._background = background
        self._happened = happened
        self._kept: Nanoseconds = 0
        self._awaited: set[tuple[str, str]] = set()  # limiters with periods whose stored use is not known yet

    def begin(self, now: Nanoseconds) -> None:
        """The gate has begun to shape."""
        self._kept = now

    def tick(self, now: Nanoseconds) -> None:
        """Store the use of quotas regularly."""
        if self._keeper is not None:
            self._keeper.tick()
        if now - self._kept >= KEEP_EVERY:
            self._kept = now
            self.keep()

    def reconfigure(self, plan: Plan, moment: datetime) -> None:
        """Begin new periods, where it is time."""
        for limiter in plan.limiters:
            ledger = self._engine().ledgers.get(limiter.name)
            if ledger is None or limiter.quota is None:
                continue
            period = period_start(limiter.quota.period, limiter.starts, moment).isoformat()
            if period != ledger.period:
                self.keep({limiter.name})
                self._awaited.discard((limiter.name, ledger.period))
                ledger.begin(period)
                if self._keeper is not None:
                    self._awaited.add((limiter.name, period))
        self._ask()

    def _ask(self) -> None:
        """Ask for the use stored for periods that have begun here, one at a time. Until it is known, nothing is handed
        over for them, since the store keeps the sum.
        """
        keeper = self._keeper
        if keeper is None or not self._awaited:
            return
        name, period = min(self._awaited)

        def known(used: Any) -> None:
            if isinstance(used, LiveError):
                self._happened("quotas.unreadable", "warning", limiter=name, why=str(used))
            if isinstance(used, dict) and (name, period) in self._awaited:
                self._awaited.discard((name, period))
                ledger = self._engine().ledgers.get(name)
                if ledger is not None and ledger.period == period:
                    ledger.add(used)
            self._ask()

        def ask() -> Any:
            try:
                return keeper.used(name, period)
            except LiveError:
                time.sleep(RETRY)
                raise

        self._background().do("quotas", ask, known)

    def keep(self, ending: Set[str] = frozenset()) -> None:
        """Hand over the use since the last time; for limiters that are `ending`, in any case."""
        if self._keeper is not None:
            for name, ledger in self._engine().ledgers.items():
                if name in ending or (name, ledger.period) not in self._awaited:
                    ledger.take_back(self._keeper.keep(name, ledger.period, ledger.news()))

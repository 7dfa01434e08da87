"""Watches what the gate depends on: the chains that divert packets, and the kernel's connection table.

- Another program may flush the tables, or insert a rule ahead of the gate's. The kernel reports changes (nf_tables). If
  it does not, an interface with far more packets than its queues reveals it within a second. Missing rules are restored
  and logged; another program's rule ahead is logged and left.
- Traffic on an uplink that the plan does not name is counted and reported.
- If rules need protocols, the kernel tracks connections for the gate, and drops packets of new ones when its table is
  full. Before that, the gate stops using it, and resumes when there is room.
"""

from collections.abc import Callable
from typing import Any, Final

from wily_sluice.gate.kernel.diversion import ChainState
from wily_sluice.gate.kernel.machine import Crossed, Machine, Survey, TableNews, Tracking
from wily_sluice.gate.kernel.process import BackgroundTasks
from wily_sluice.gate.queue_manager import QueueManager
from wily_sluice.plan.model import Plan
from wily_sluice.units import SECOND, Nanoseconds

FEW: Final = 20  # packets in a second, of which nothing is concluded
QUIET: Final[Nanoseconds] = 10 * SECOND  # after a look that found nothing, before traffic alone is a reason for another
NEARLY_FULL, ROOMY = 0.85, 0.5  # of the table of connections
AGAIN: Final[Nanoseconds] = 30 * SECOND  # with room all the time, before it is relied on again

Tell = Callable[..., None]


class Guard:
    """Of one gate. `tell` is called with each event, its level and details; `retake` when the queues must be
    rebuilt, since `QueueManager.full` has changed.
    """

    def __init__(
        self,
        machine: Machine,
        queue_manager: QueueManager,
        background: BackgroundTasks,
        tell: Tell,
        retake: Callable[[], None],
    ) -> None:
        self._machine = machine
        self._queue_manager = queue_manager
        self._background = background
        self._tell = tell
        self._retake = retake
        self._crossed: dict[str, Crossed] = {}
        self._seen: dict[str, int] = {}
        self._before: tuple[str, ...] = ()
        self._looked: Nanoseconds = -QUIET
        self._roomy_since: Nanoseconds | None = None
        self._trouble = ""
        self.repairs = 0
        self._unnamed: set[str] = set()
        # Packets that crossed an interface that a default route leads to and that is no uplink's, since the gate began.
        self.unseen: dict[str, int] = {}

    def tick(self, plan: Plan, news: TableNews | None, survey: Survey, now: Nanoseconds) -> None:
        """A look, once a second."""
        astray = self._is_astray(plan, survey)
        if news is not None and news.changed:
            news.changed = False
            self._examine(now)
        elif astray and now - self._looked >= QUIET:
            self._examine(now)
        self._look_at_tracking(survey.tracking, now)

    def _is_astray(self, plan: Plan, survey: Survey) -> bool:
        """Whether far more packets crossed an uplink's interface than reached its queues."""
        crossed, astray = survey.crossed, False
        named = {uplink.interface for uplink in plan.uplinks}
        for name in sorted((survey.ways_out & crossed.keys()) - named):
            if name not in self._unnamed:
                self._unnamed.add(name)
                self._tell("uplink.unnamed", "warning", interface=name)
            earlier = self._crossed.get(name)
            if earlier is not None:
                moved = crossed[name].up - earlier.up + crossed[name].down - earlier.down
                self.unseen[name] = self.unseen.get(name, 0) + moved
        for uplink in plan.uplinks:
            here = crossed.get(uplink.interface)
            seen = self._queue_manager.numbered(uplink.name)
            before, seen_before = self._crossed.get(uplink.interface), self._seen.get(uplink.name, 0)
            self._seen[uplink.name] = seen
            if here is None or before is None:
                continue
            through = here.up - before.up + here.down - before.down
            came = max(0, seen - seen_before)
            astray = astray or (through >= FEW and came < through // 2)
        self._crossed = crossed
        return astray

    def _examine(self, now: Nanoseconds) -> None:
        def look() -> tuple[ChainState, bool]:
            with self._queue_manager.hands_on:
                chains = self._queue_manager.led
                if chains is None:
                    return ChainState((), ()), False
                standing = self._machine.examine_chains(chains)
                if standing.missing:
                    self._machine.repair_chains(chains)
                return standing, bool(standing.missing)

        if self._background.do("tables", look, self._looked_at):
            self._looked = now

    def _looked_at(self, state: Any) -> None:
        if isinstance(state, Exception):
            if str(state) != self._trouble:
                self._trouble = str(state)
                self._tell("chain.unrepaired", "error", why=self._trouble)
            self._looked = -QUIET
            return
        self._trouble = ""
        standing, repaired = state
        if repaired:
            self.repairs += 1
            self._looked = -QUIET
            self._tell("chain.repaired", "warning", missing="; ".join(standing.missing))
        if standing.before != self._before:
            self._before = standing.before
            if standing.before:
                self._tell("chain.bypassed", "warning", rules="; ".join(standing.before))

    def _look_at_tracking(self, table: Tracking | None, now: Nanoseconds) -> None:
        if not self._queue_manager.counts_first and not self._queue_manager.full:
            return
        if table is None or not table.limit:
            return
        part = table.connections / table.limit
        if not self._queue_manager.full and part >= NEARLY_FULL:
            self._queue_manager.full = True
            self._roomy_since = None
            self._tell("tracking.full", "warning", connections=table.connections, limit=table.limit)
            self._retake()
        elif self._queue_manager.full and part < ROOMY:
            if self._roomy_since is None:
                self._roomy_since = now
            elif now - self._roomy_since >= AGAIN:
                self._queue_manager.full = False
                self._tell("tracking.back", "info", connections=table.connections, limit=table.limit)
                self._retake()
        else:
            self._roomy_since = None

"""Uplinks that vary or fail, in simulated time, and the gate's reaction.

A failed line carries nothing, and packets on the way are lost. The gate notices it as on real lines: at its next look
if the link has gone, and by unanswered pings if the link is still there.
"""

from collections.abc import Callable, Mapping, Set
from dataclasses import dataclass
from random import Random
from typing import Final

from wily_sluice.engine.line import Line
from wily_sluice.engine.shaper import Shaper
from wily_sluice.engine.site import SiteEngine
from wily_sluice.engine.uplinks import TICK, Echoes, RateFinder, UplinkHealth
from wily_sluice.forecast.lab.events import Events
from wily_sluice.plan.lines import spent_routes
from wily_sluice.plan.model import Plan, Tunnel, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.units import DIRECTIONS, MILLISECOND, SECOND, Direction, Nanoseconds, Size

PROBE: Size = 102  # bytes on the line, of an echo


@dataclass(frozen=True, slots=True)
class Failure:
    """From `begin` until `end` a line carries nothing; if `silent`, its link stays up."""

    begin: Nanoseconds
    end: Nanoseconds
    silent: bool


class Outage:
    """The present state of a line: `cut` while it carries nothing, `unlinked` while its link is also down."""

    __slots__ = ("_cuts", "_unlinked")

    def __init__(self, events: Events, failures: tuple[Failure, ...]) -> None:
        self._cuts = 0
        self._unlinked = 0
        for failure in failures:
            events.at(failure.begin, self._turn, (1, failure.silent))
            events.at(failure.end, self._turn, (-1, failure.silent))

    def _turn(self, change: tuple[int, bool]) -> None:
        step, silent = change
        self._cuts += step
        self._unlinked += 0 if silent else step

    @property
    def cut(self) -> bool:
        """Whether packets are lost."""
        return self._cuts > 0

    @property
    def unlinked(self) -> bool:
        """Whether the link is down."""
        return self._unlinked > 0


class LineWatch:
    """Of one uplink: a probe there and back each TICK, and what its finders make of that."""

    def __init__(
        self,
        events: Events,
        plan: Plan,
        uplink: Uplink,
        engine: SiteEngine,
        up: Line,
        down: Line,
        outage: Outage | None = None,
    ) -> None:
        self._events = events
        self._outage = outage
        self._plan = plan
        self._uplink = uplink
        self._lines: dict[Direction, Line] = {"up": up, "down": down}
        self._shapers: dict[Direction, Shaper] = {way: engine.shapers[uplink.name, way] for way in DIRECTIONS}
        self.finders: dict[Direction, RateFinder] = {}
        self._before: dict[Direction, Size] = dict.fromkeys(DIRECTIONS, 0)
        for way in DIRECTIONS:
            lowest = uplink.lowest.of(way)
            if lowest is not None:
                self.finders[way] = RateFinder(lowest, uplink.measured(way), toward=way == "up")
                self._retune(way)
        events.at(0, self._tick)

    def _tick(self, _: object) -> None:
        now = self._events.now
        self._cross("up", self._there, now)
        for way, finder in self.finders.items():
            line, shaper = self._lines[way], self._shapers[way]
            left = line.carried - line.waiting(now) if way == "down" else line.carried
            moved, self._before[way] = round(left - self._before[way]), round(left)
            before = finder.rate
            if finder.step(moved, shaper.tree.active or shaper.free_at > now, now) != before:
                self._retune(way)
        self._events.at(now + TICK, self._tick)

    def _there(self, sent: Nanoseconds) -> None:
        self._cross("down", self._back, sent)

    def _cross(self, way: Direction, onward: Callable[[Nanoseconds], None], sent: Nanoseconds) -> None:
        if self._outage is None or not self._outage.cut:
            arrival = self._lines[way].transmit(PROBE, self._events.now)
            if arrival is not None:
                self._events.at(arrival, onward, sent)

    def _back(self, sent: Nanoseconds) -> None:
        if self._outage is not None and self._outage.cut:
            return
        now = self._events.now
        for finder in self.finders.values():
            finder.saw(now - sent, now)

    def _retune(self, way: Direction) -> None:
        """Shape at the rate found, which is now the line's measured rate."""
        uplink = self._uplink.at(way, self.finders[way].rate)
        self._shapers[way].retune(resolve(self._plan, uplink, way), self._events.now)


LOOK: Final[Nanoseconds] = SECOND  # between two looks of the gate at its links
PACE: Final[Nanoseconds] = 100 * MILLISECOND
ECHO: Final[Size] = 102  # bytes on the line


class Failover:
    """Makes routes avoid lines that fail, and quota shares that are used up. `leave` receives the lines that have just
    failed, so that open flows can move. `random` decides when in a second the gate looks, and probes.
    """

    def __init__(
        self,
        events: Events,
        plan: Plan,
        engine: SiteEngine,
        outages: Mapping[str, Outage],
        lines: Mapping[tuple[str, Direction], Line],
        leave: Callable[[Set[str]], None],
        random: Random,
    ) -> None:
        self._events = events
        self._plan = plan
        self._engine = engine
        self._outages = outages
        self._lines = lines
        self._leave = leave
        self._health = UplinkHealth()
        self._echoes = {
            uplink.name: Echoes(uplink.probing.within, uplink.probing.lost)
            for uplink in plan.uplinks
            if uplink.probing is not None and uplink.name in outages
        }
        for echoes in self._echoes.values():
            echoes.answered = True  # the gate has been running for long
        self._failing: set[str] = set()
        events.at(random.randrange(LOOK), self._look_again)
        if self._echoes:
            events.at(random.randrange(SECOND), self._beat)

    def _look_again(self, _: object) -> None:
        self._look()
        self._events.at(self._events.now + LOOK, self._look_again)

    def _look(self) -> None:
        failed = set()
        for line in self._plan.lines:
            carrier = line.uplink if isinstance(line, Tunnel) else line.name
            outage = self._outages.get(carrier)
            if carrier in self._failing or (outage is not None and outage.unlinked):
                if self._health.failed(line.name, self._events.now):
                    failed.add(line.name)
            else:
                self._health.well(line.name, self._events.now)
        router = self._engine.router
        router.down = frozenset(n for n, line in enumerate(self._plan.lines) if line.name in self._health.down)
        router.spent = spent_routes(self._plan, self._engine)
        if failed:
            self._leave(failed)

    def _beat(self, _: object) -> None:
        now = self._events.now
        for name, echoes in self._echoes.items():
            sequence = echoes.next(now)
            if sequence >= 0:
                self._cross((name, "up", sequence))
        before, self._failing = self._failing, {name for name, health in self._echoes.items() if health.failing}
        if before != self._failing:
            self._look()
        self._events.at(now + PACE, self._beat)

    def _cross(self, echo: tuple[str, Direction, int]) -> None:
        """Send an echo, or its answer, over its line."""
        name, way, _ = echo
        if not self._outages[name].cut:
            arrival = self._lines[name, way].transmit(ECHO, self._events.now)
            if arrival is not None:
                self._events.at(arrival, self._crossed, echo)

    def _crossed(self, echo: tuple[str, Direction, int]) -> None:
        name, way, sequence = echo
        if self._outages[name].cut:
            return
        if way == "up":
            self._cross((name, "down", sequence))
        else:
            self._echoes[name].heard(sequence, self._events.now)

"""Finds the usable rate of a line that varies, in simulated time, as the gate does it."""

from collections.abc import Callable

from wily_sluice.engine.line import Line
from wily_sluice.engine.shaper import Shaper
from wily_sluice.engine.site import SiteEngine
from wily_sluice.engine.varying import TICK, RateFinder
from wily_sluice.forecast.lab.events import Events
from wily_sluice.forecast.lab.failing import Outage
from wily_sluice.plan.model import Plan, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.units import DIRECTIONS, Direction, Nanoseconds, Size

PROBE: Size = 102  # bytes on the line, of an echo


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

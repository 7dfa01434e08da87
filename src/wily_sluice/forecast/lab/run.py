"""Runs the lab: events in simulated order, and what comes of them."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from random import Random

from wily_sluice.engine.line import Jitter, Line, VaryingLine
from wily_sluice.engine.packet import Packet
from wily_sluice.forecast.lab.events import Events
from wily_sluice.forecast.lab.flows import Flows, Outcome
from wily_sluice.forecast.lab.meter import NOTHING
from wily_sluice.forecast.lab.notes import Note, notes
from wily_sluice.forecast.lab.path import Path, ShapedBy, deliver, shaped_down, shaped_up, without_plan
from wily_sluice.forecast.lab.traffic import RealLine, Traffic
from wily_sluice.forecast.lab.uplinks import Failover, LineWatch, Outage
from wily_sluice.plan.build import build_site
from wily_sluice.plan.lines import spent_routes
from wily_sluice.plan.model import Plan
from wily_sluice.units import BYTE_TIME, DIRECTIONS, SECOND, Direction, Nanoseconds

STEP: Nanoseconds = SECOND // 4  # of simulated time between two tellings of the progress
DRAIN: Nanoseconds = 3 * SECOND  # after the end, for what is still under way


@dataclass(frozen=True, slots=True)
class Load:
    """What one direction of an uplink carried after the warm-up, in frames, and its goodput; both in bit/s."""

    carried: int
    goodput: int


@dataclass(frozen=True, slots=True)
class Total:
    """The load without the plan and with it, and the usable rate in bit/s."""

    before: Load
    after: Load
    usable: int


@dataclass(frozen=True, slots=True)
class Run:
    """One run: a row for each application and direction, the rate of each line in bit/s, and if lines fail, the longest
    silence by application index and direction.
    """

    rows: tuple[Outcome, ...]
    carried: dict[tuple[str, Direction], float]
    silences: dict[tuple[int, str], Nanoseconds]

    def load(self, uplink: str, direction: Direction) -> Load:
        """What one direction of an uplink carried."""
        goodput = sum(row.measured.goodput for row in self.rows if (row.uplink, row.way) == (uplink, direction))
        return Load(round(self.carried[uplink, direction]), round(goodput))


@dataclass(frozen=True, slots=True)
class Silent:
    """The longest silence of an application, without the plan and with it."""

    name: str
    way: str
    before: Nanoseconds
    after: Nanoseconds


@dataclass(frozen=True, slots=True)
class Comparison:
    """The same rows, without the plan and with it; the totals of each uplink and direction; where lines fail, the
    silences, and the uplinks whose failure the gate does not notice.
    """

    before: tuple[Outcome, ...]
    after: tuple[Outcome, ...]
    totals: dict[str, dict[Direction, Total]]
    silences: tuple[Silent, ...] = ()
    unseen: tuple[str, ...] = ()
    notes: tuple[Note, ...] = ()


class Lab:
    """One run. `shaped` means with the plan's shapers ahead of the lines.

    It begins at the time `begin`, in the site's time zone, and follows the schedules from there; without it, all
    schedules count as open.
    """

    def __init__(self, plan: Plan, traffic: Traffic, shaped: bool, begin: datetime | None = None) -> None:
        self.events = Events()
        self._begin = begin
        self._plan = plan
        self._traffic = traffic
        self._engine = build_site(plan, _lost)
        for name, size in traffic.used.items():
            if name in self._engine.ledgers:
                self._engine.ledgers[name].add({b"": size})
        self._engine.router.spent = spent_routes(plan, self._engine)
        outages = {name: Outage(self.events, line.failures) for name, line in traffic.lines.items() if line.failures}
        self._paths: dict[tuple[str, Direction], Path] = {}
        self._lines: dict[tuple[str, Direction], Line] = {}
        self._behind: dict[str, ShapedBy] = {}  # the shapers that stand behind a line, by uplink
        self._watches: list[LineWatch] = []
        for uplink in plan.uplinks:
            name, real = uplink.name, traffic.lines[uplink.name]
            up, down = (_line(real, way, f"{traffic.seed} {name} {way}") for way in ("up", "down"))
            outage = outages.get(name)
            self._lines |= {(name, "up"): up, (name, "down"): down}
            if shaped:
                self._paths[name, "up"] = shaped_up(self.events, self._engine.shapers[name, "up"], up, outage)
                behind = ShapedBy(self.events, self._engine.shapers[name, "down"], deliver)
                self._behind[name] = behind
                self._paths[name, "down"] = shaped_down(self.events, down, outage, behind)
                if any(uplink.lowest.of(way) is not None for way in DIRECTIONS):
                    self._watches.append(LineWatch(self.events, plan, uplink, self._engine, up, down, outage))
            else:
                self._paths[name, "up"] = without_plan(self.events, up, outage)
                self._paths[name, "down"] = without_plan(self.events, down, outage)
        self._flows = Flows(self.events, plan, self._engine, traffic, self._paths, self._follow_clock)
        if shaped and plan.routing and (outages or any(route.budget for route in plan.routing)):
            random = Random(f"{traffic.seed} looks")
            Failover(self.events, plan, self._engine, outages, self._lines, self._flows.leave, random)
        self._follow_clock()

    def _follow_clock(self) -> None:
        """Have the schedules hold that do so at this moment of the simulation."""
        if self._begin is not None:
            passed = timedelta(microseconds=self.events.now // 1000)
            self._engine.at((self._begin.astimezone(UTC) + passed).astimezone(self._begin.tzinfo))

    def _run_until(self, end: Nanoseconds, progress: Callable[[Nanoseconds], None]) -> None:
        while self.events.now < end:
            self.events.run(min(self.events.now + STEP, end))
            self._follow_clock()
            progress(self.events.now)

    def _carried(self) -> dict[tuple[str, Direction], float]:
        """Bytes that have left in each direction, without those queued in a buffer or dropped by a shaper beyond a
        line.
        """
        now = self.events.now
        carried = {way: line.carried - line.waiting(now) for way, line in self._lines.items()}
        return carried | {(name, "down"): behind.released for name, behind in self._behind.items()}

    def run(self, progress: Callable[[Nanoseconds], None] = lambda _: None) -> Run:
        """Run through the time of the traffic file."""
        self._run_until(self._traffic.warmup, progress)
        warm = self._carried()
        self._run_until(self._traffic.duration, progress)
        counted = self._traffic.duration - self._traffic.warmup
        carried = {way: (size - warm[way]) * BYTE_TIME / counted for way, size in self._carried().items()}
        self.events.run(self._traffic.duration + DRAIN)
        return Run(self._flows.outcomes(), carried, self._flows.silences())


def _line(real: RealLine, way: Direction, seed: str) -> Line:
    course = real.course(way)
    buffer = course.highest * real.buffer // BYTE_TIME
    jitter = Jitter(real.jitter, seed)
    if course.steady:
        return Line(course.highest, real.delay, buffer, _lost, jitter)
    return VaryingLine(course, real.delay, buffer, _lost, jitter)


def _lost(_: Packet) -> None:
    """Nothing to do: the sender's model detects losses itself."""


def comparison(plan: Plan, traffic: Traffic, before: Run, after: Run) -> Comparison:
    """Two runs of the same traffic, without the plan and with it, side by side."""
    totals = {
        uplink.name: {
            way: Total(before.load(uplink.name, way), after.load(uplink.name, way), uplink.usable(way))
            for way in DIRECTIONS
        }
        for uplink in plan.uplinks
    }
    # On a line that an application only came to when another failed, there is nothing to compare with. Without the
    # plan nothing is seen of a conversation as it goes on, so both rows have the queue that the plan gives it.
    rows = [{row.place: row for row in run.rows} for run in (before, after)]
    blank = {place: replace(row, measured=NOTHING) for side in rows for place, row in side.items()}
    same = [
        tuple(replace(row.get(place, blank[place]), queue=blank[place].queue) for place in sorted(blank))
        for row in rows
    ]
    names = {row.place[0]: row.name for row in blank.values()}
    silences = tuple(
        Silent(names[index], way, before.silences[index, way], longest)
        for (index, way), longest in sorted(after.silences.items(), key=lambda item: item[0][0])
    )
    unseen = tuple(
        uplink.name
        for uplink in plan.uplinks
        if plan.routing
        and uplink.probing is None
        and any(failure.silent for failure in traffic.lines[uplink.name].failures)
    )
    carried = {
        (name, way): total.after.carried / total.usable if total.usable else 1.0
        for name, ways in totals.items()
        for way, total in ways.items()
    }
    return Comparison(same[0], same[1], totals, silences, unseen, tuple(notes(plan, same[1], carried)))

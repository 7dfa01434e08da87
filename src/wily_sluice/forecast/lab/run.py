"""Runs a traffic file: on the bare lines, or with the plan's shapers. The same seed gives the same figures."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from random import Random
from typing import NamedTuple

from wily_sluice.engine.classify.header import key_of
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.framing import Framing
from wily_sluice.engine.line import Line, VaryingLine
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.shaper import Shaper
from wily_sluice.forecast.lab.applications import CALL_PERIOD, Course, Probe, Source, Talk
from wily_sluice.forecast.lab.events import Events
from wily_sluice.forecast.lab.finding import LineWatch
from wily_sluice.forecast.lab.measure import Measured, Meter
from wily_sluice.forecast.lab.path import BareLine, Path, ShapedBy, deliver, shaped_down, shaped_up
from wily_sluice.forecast.lab.tcp import Transfer
from wily_sluice.forecast.lab.traffic import Application, RealLine, Traffic
from wily_sluice.plan.build import build_site
from wily_sluice.plan.line_choice import line_of
from wily_sluice.plan.model import Plan, Tunnel
from wily_sluice.units import BYTE_TIME, DIRECTIONS, SECOND, Direction, Nanoseconds

FIRST_PORT = 49_152  # RFC 6335: the first port that no service has for its own
STEP: Nanoseconds = SECOND // 4  # of simulated time between two tellings of the progress
DRAIN: Nanoseconds = 3 * SECOND  # after the end, for what is still under way
WAYS = {"call": ("up", "down"), "probe": ("there and back",), "upload": ("up",), "download": ("down",)}


@dataclass(frozen=True, slots=True)
class Outcome:
    """One application in one direction; `there and back` for a probe."""

    name: str
    kind: str
    way: str
    uplink: str
    queue: str
    measured: Measured


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
    """One run: a row for each application and direction, and what each line carried in bit/s."""

    rows: tuple[Outcome, ...]
    carried: dict[tuple[str, Direction], float]

    def load(self, uplink: str, direction: Direction) -> Load:
        """What one direction of an uplink carried."""
        goodput = sum(row.measured.goodput for row in self.rows if (row.uplink, row.way) == (uplink, direction))
        return Load(round(self.carried[uplink, direction]), round(goodput))


@dataclass(frozen=True, slots=True)
class Comparison:
    """The same rows, without the plan and with it; and the totals of each uplink and direction."""

    before: tuple[Outcome, ...]
    after: tuple[Outcome, ...]
    totals: dict[str, dict[Direction, Total]]


class _Metered(NamedTuple):
    """What becomes a row: an application in one direction, on one uplink, with one of its conversations there."""

    place: tuple[int, int, int]
    application: Application
    way: str
    uplink: str
    shaper: Shaper
    conversation: Conversation
    meter: Meter


class Lab:
    """One run. `shaped` says whether the plan's shapers stand before the lines.

    It begins at the moment `begin`, in the site's time zone, and follows the schedules from there; without it, what a
    schedule governs holds.
    """

    def __init__(self, plan: Plan, traffic: Traffic, shaped: bool, begin: datetime | None = None) -> None:
        self.events = Events()
        self._begin = begin
        self._plan = plan
        self._places = {uplink.name: place for place, uplink in enumerate(plan.uplinks)}
        self._traffic = traffic
        self._engine = build_site(plan, _lost)
        self._paths: dict[tuple[str, Direction], Path] = {}
        self._lines: dict[tuple[str, Direction], Line] = {}
        self._behind: dict[str, ShapedBy] = {}  # the shapers that stand behind a line, by uplink
        self._watches: list[LineWatch] = []
        for uplink in plan.uplinks:
            name, real = uplink.name, traffic.lines[uplink.name]
            up, down = (_line(real, way) for way in ("up", "down"))
            self._lines |= {(name, "up"): up, (name, "down"): down}
            if shaped:
                self._paths[name, "up"] = shaped_up(self.events, self._engine.shapers[name, "up"], up)
                behind = ShapedBy(self.events, self._engine.shapers[name, "down"], deliver)
                self._behind[name] = behind
                self._paths[name, "down"] = shaped_down(self.events, down, behind)
                if any(uplink.lowest.of(way) is not None for way in DIRECTIONS):
                    self._watches.append(LineWatch(self.events, plan, uplink, self._engine, up, down))
            else:
                self._paths[name, "up"] = BareLine(self.events, up)
                self._paths[name, "down"] = BareLine(self.events, down)
        self._meters: list[_Metered] = []
        # In the order in which they open, which is that in which routes share them.
        for index in sorted(range(len(traffic.applications)), key=lambda one: traffic.applications[one].begin):
            self._start(index, traffic.applications[index], Random(f"{traffic.seed} {index}"))
        self._meters.sort(key=lambda one: one.place)
        self._follow_clock()

    def _start(self, index: int, application: Application, random: Random) -> None:
        begin = max(self._traffic.warmup, application.begin)
        self._follow_clock(application.begin)
        meters: dict[str, list[Meter]] = {}  # by uplink, one for each way
        for _ in range(application.flows):
            port = FIRST_PORT + random.randrange(16_384) if application.parties.remote_port else 0
            key = key_of(application.parties._replace(local_port=port))
            conversation = self._engine.conversations.find(key, application.dscp, 0)
            conversation.known = application.known
            start = application.begin + random.randrange(CALL_PERIOD)
            uplink, framing = self._line_of(application, conversation)
            up, down = (self._paths[uplink, direction] for direction in ("up", "down"))
            if uplink not in meters:
                meters[uplink] = [Meter(begin, max(begin + 1, application.end)) for _ in WAYS[application.kind]]
                for number, (way, meter) in enumerate(zip(WAYS[application.kind], meters[uplink], strict=True)):
                    shaper = self._engine.shapers[uplink, "down" if way == "down" else "up"]
                    place = index, self._places[uplink], number
                    self._meters.append(_Metered(place, application, way, uplink, shaper, conversation, meter))
            course = Course(self.events, conversation, meters[uplink][0], application.end, framing, up, down, random)
            sources: list[Source]
            if application.kind == "call":
                sources = [Talk(course), Talk(replace(course, meter=meters[uplink][1], there=down, back=up))]
            elif application.kind == "probe":
                sources = [Probe(course)]
            elif application.kind == "upload":
                sources = [Transfer(course, application.control)]
            else:
                sources = [Transfer(replace(course, there=down, back=up), application.control)]
            for source in sources:
                self.events.at(start, source.begin)

    def _line_of(self, application: Application, conversation: Conversation) -> tuple[str, Framing]:
        """The uplink that carries a flow, and what its packets cost there; all lines are up, and no quota is spent."""
        line = line_of(self._plan, self._engine, conversation) if application.uplink is None else None
        carrier = line.uplink if isinstance(line, Tunnel) else line.name if line is not None else application.uplink
        uplink = self._plan.uplinks[self._places[carrier] if carrier is not None else 0]
        wrapping = line.wrapping if isinstance(line, Tunnel) else None
        return uplink.name, replace(uplink.framing, wrapping=wrapping)

    def _follow_clock(self, at: Nanoseconds | None = None) -> None:
        """Have the schedules hold that do so at this moment of the simulation, by default now."""
        if self._begin is not None:
            passed = timedelta(microseconds=(self.events.now if at is None else at) // 1000)
            self._engine.at((self._begin.astimezone(UTC) + passed).astimezone(self._begin.tzinfo))

    def _run_until(self, end: Nanoseconds, progress: Callable[[Nanoseconds], None]) -> None:
        while self.events.now < end:
            self.events.run(min(self.events.now + STEP, end))
            self._follow_clock()
            progress(self.events.now)

    def _carried(self) -> dict[tuple[str, Direction], float]:
        """Bytes that have left each direction: what waits in a buffer, or a shaper behind a line dropped, has not."""
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
        # Where it went in the end: that may have changed as more was seen of it.
        rows = (
            Outcome(
                one.application.name,
                one.application.kind,
                one.way,
                one.uplink,
                one.shaper.leaf_of(one.conversation).path,
                one.meter.result(),
            )
            for one in self._meters
        )
        return Run(tuple(rows), carried)


def _line(real: RealLine, way: Direction) -> Line:
    course = real.course(way)
    buffer = course.highest * real.buffer // BYTE_TIME
    if course.steady:
        return Line(course.highest, real.delay, buffer, _lost)
    return VaryingLine(course, real.delay, buffer, _lost)


def _lost(_: Packet) -> None:
    """Nothing to tell: the sender's model notices a lost packet by itself."""


def comparison(plan: Plan, before: Run, after: Run) -> Comparison:
    """Two runs of the same traffic, without the plan and with it, side by side."""
    totals = {
        uplink.name: {
            way: Total(before.load(uplink.name, way), after.load(uplink.name, way), uplink.usable(way))
            for way in DIRECTIONS
        }
        for uplink in plan.uplinks
    }
    return Comparison(before.rows, after.rows, totals)

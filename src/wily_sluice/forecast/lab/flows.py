"""The flows of a traffic file: each opens on the line that the routes choose, and moves when that fails.

Flows without a connection, such as a call or a ping, continue on another line. A transfer's connection ends, because
the far end does not know it by the new address; once the host has been told, its application opens another.
"""

from collections.abc import Callable, Mapping, Set
from dataclasses import dataclass, replace
from random import Random
from typing import NamedTuple

from wily_sluice.engine.classify.header import ACKNOWLEDGEMENT, key_of
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.packet import Framing
from wily_sluice.engine.shaper import Shaper
from wily_sluice.engine.site import SiteEngine
from wily_sluice.forecast.lab.events import Events
from wily_sluice.forecast.lab.kinds.registry import BOTH, KINDS, Judgement, Kind
from wily_sluice.forecast.lab.kinds.source import Course, Source
from wily_sluice.forecast.lab.kinds.talk import CALL_PERIOD
from wily_sluice.forecast.lab.kinds.tcp import HEADERS
from wily_sluice.forecast.lab.meter import Measured, Meter, Silence
from wily_sluice.forecast.lab.path import Path
from wily_sluice.forecast.lab.traffic import Application, Traffic
from wily_sluice.plan.lines import line_of
from wily_sluice.plan.model import Plan, Tunnel
from wily_sluice.units import DIRECTIONS, Direction, Nanoseconds

FIRST_PORT = 49_152  # RFC 6335: the first port that no service has for its own


@dataclass(frozen=True, slots=True)
class Outcome:
    """One application in one direction; `there and back` for a ping. `place` is that of its row."""

    name: str
    kind: str
    way: str
    uplink: str
    queue: str
    measured: Measured
    place: tuple[int, int, int]
    acks_queue: str = ""  # where the acknowledgements of a transfer go
    limiters: tuple[str, ...] = ()
    judgement: Judgement | None = None


class _Metered(NamedTuple):
    """What becomes a row: an application in one direction, on one uplink, with one of its conversations there."""

    application: Application
    way: str
    uplink: str
    shaper: Shaper
    conversation: Conversation
    meter: Meter
    sources: list[Source]


class _Chosen(NamedTuple):
    """The line of a flow, the uplink that carries it, and what its packets cost there."""

    line: str
    uplink: str
    framing: Framing


@dataclass(slots=True)
class _Flow:
    """One of an application: the line that it is on, and what sends its packets."""

    index: int
    line: str
    conversation: Conversation
    random: Random
    sources: list[Source]


class Flows:
    """Those of one run, on these paths. `opening` is called before an application opens its flows."""

    def __init__(
        self,
        events: Events,
        plan: Plan,
        engine: SiteEngine,
        traffic: Traffic,
        paths: Mapping[tuple[str, Direction], Path],
        opening: Callable[[], object],
    ) -> None:
        self._events = events
        self._plan = plan
        self._engine = engine
        self._traffic = traffic
        self._paths = paths
        self._opening = opening
        self._places = {uplink.name: place for place, uplink in enumerate(plan.uplinks)}
        self._open: list[_Flow] = []
        self._metered: dict[tuple[int, int, int], _Metered] = {}
        self._silences: dict[tuple[int, str], Silence] = {}
        # In the order in which they open, which is that in which routes share them.
        for index in sorted(range(len(traffic.applications)), key=lambda place: traffic.applications[place].begin):
            events.at(traffic.applications[index].begin, self._begin, index)

    def _begin(self, index: int) -> None:
        """An application opens its flows."""
        self._opening()
        application, random = self._traffic.applications[index], Random(f"{self._traffic.seed} {index}")
        for _ in range(application.flows):
            conversation = self._conversation(application, random)
            start = self._events.now + random.randrange(CALL_PERIOD)
            chosen = self._choose(application, conversation)
            flow = _Flow(index, chosen.line, conversation, random, [])
            self._open_sources(flow, chosen)
            self._open.append(flow)
            for source in flow.sources:
                self._events.at(start, source.begin)

    def _open_sources(self, flow: _Flow, chosen: _Chosen) -> None:
        """Begin what a flow does, on this line."""
        application = self._traffic.applications[flow.index]
        kind = KINDS[application.kind]
        flow.sources = kind.open(self._courses(flow, chosen), application.choices)
        for number in range(len(kind.ways)):
            # A row has the sources of its direction; all there are, where one source serves both.
            mine = flow.sources[number : number + 1] if len(flow.sources) == len(kind.ways) else flow.sources
            self._metered[flow.index, self._places[chosen.uplink], number].sources.extend(mine)

    def _conversation(self, application: Application, random: Random) -> Conversation:
        """A new one of this application, from another port."""
        port = FIRST_PORT + random.randrange(16_384) if application.parties.remote_port else 0
        key = key_of(application.parties._replace(local_port=port))
        conversation = self._engine.conversations.find(key, application.dscp, self._events.now)
        conversation.known = application.known
        return conversation

    def _courses(self, flow: _Flow, chosen: _Chosen) -> list[Course]:
        """The environment of each source of a flow, on its line."""
        application = self._traffic.applications[flow.index]
        up, down = self._paths[chosen.uplink, "up"], self._paths[chosen.uplink, "down"]
        courses = []
        for number, way in enumerate(KINDS[application.kind].ways):
            meter = self._meter(flow, number, way, chosen.uplink)
            ways = (down, up) if way == "down" else (up, down)
            courses.append(
                Course(self._events, flow.conversation, meter, application.end, chosen.framing, *ways, flow.random)
            )
        return courses

    def _meter(self, flow: _Flow, number: int, way: str, uplink: str) -> Meter:
        """That of an application's flows on one uplink, in one direction."""
        place = flow.index, self._places[uplink], number
        if place not in self._metered:
            application = self._traffic.applications[flow.index]
            begin = max(self._traffic.warmup, application.begin)
            end = max(begin + 1, application.end)
            silence = self._silences.setdefault((flow.index, way), Silence(begin, end))
            shaper = self._engine.shapers[uplink, "down" if way == "down" else "up"]
            meter = Meter(begin, end, silence if self._traffic.fails else None)
            self._metered[place] = _Metered(application, way, uplink, shaper, flow.conversation, meter, [])
        return self._metered[place].meter

    def _choose(self, application: Application, conversation: Conversation) -> _Chosen:
        """The line of a flow: what its application says, what routes choose, or the first."""
        line = line_of(self._plan, self._engine, conversation) if application.uplink is None else None
        carrier = line.uplink if isinstance(line, Tunnel) else line.name if line is not None else application.uplink
        uplink = self._plan.uplinks[self._places[carrier] if carrier is not None else 0]
        wrapping = line.wrapping if isinstance(line, Tunnel) else None
        name = uplink.name if line is None else line.name
        return _Chosen(name, uplink.name, replace(uplink.framing, wrapping=wrapping))

    def leave(self, failed: Set[str]) -> None:
        """Move the open flows of these lines, if the routes have another line for them."""
        now = self._events.now
        self._open = [flow for flow in self._open if self._traffic.applications[flow.index].end > now]
        for flow in [flow for flow in self._open if flow.line in failed]:
            application = self._traffic.applications[flow.index]
            chosen = self._choose(application, flow.conversation)
            if chosen.line == flow.line:
                continue
            flow.line = chosen.line
            if not KINDS[application.kind].connected:
                for source, course in zip(flow.sources, self._courses(flow, chosen), strict=True):
                    source.move(course)
                continue
            for source in flow.sources:
                source.close()
            flow.conversation = self._conversation(application, flow.random)
            self._open_sources(flow, chosen)
            for source in flow.sources:
                # What the host sends by the new line is refused, and then it opens another connection there.
                self._events.at(now + 2 * self._traffic.lines[chosen.uplink].delay, source.begin)

    def outcomes(self) -> tuple[Outcome, ...]:
        """All rows. A queue is the flow's last one: it may have changed as recognition progressed."""
        return tuple(
            Outcome(
                flow.application.name,
                flow.application.kind,
                flow.way,
                flow.uplink,
                flow.shaper.leaf_of(flow.conversation, *KINDS[flow.application.kind].packet).path,
                flow.meter.result(),
                place,
                self._acks_queue(flow),
                self._limiters(flow),
                self._judgement(flow),
            )
            for place, flow in sorted(self._metered.items(), key=lambda item: item[0])
        )

    def _judgement(self, flow: _Metered) -> Judgement | None:
        kind = KINDS[flow.application.kind]
        return kind.judge(flow.sources) if len(flow.sources) and self._is_first(flow, kind) else None

    @staticmethod
    def _is_first(flow: _Metered, kind: Kind) -> bool:
        """Whether this is the row of an application's first direction, or every direction has sources of its own."""
        return flow.way == kind.ways[0] or kind.ways == BOTH

    def _acks_queue(self, flow: _Metered) -> str:
        if flow.way not in DIRECTIONS or KINDS[flow.application.kind].ways != (flow.way,):
            return ""
        back = self._engine.shapers[flow.uplink, "down" if flow.way == "up" else "up"]
        return back.leaf_of(flow.conversation, ACKNOWLEDGEMENT, HEADERS).path

    def _limiters(self, flow: _Metered) -> tuple[str, ...]:
        """The limiters that cap it now, the tightest first."""
        if flow.way not in DIRECTIONS:
            return ()
        way: Direction = "up" if flow.way == "up" else "down"
        indices = flow.shaper.classifier.limits(flow.shaper.classifier.subject(flow.conversation))
        limiters = [self._plan.limiters[index] for index in indices]
        capping = [
            (rate, limiter.name)
            for limiter in limiters
            if limiter.enabled and limiter.uplink in (None, flow.uplink) and (rate := limiter.rate(way)) is not None
        ]
        return tuple(name for _, name in sorted(capping))

    def silences(self) -> dict[tuple[int, str], Nanoseconds]:
        """The longest time without arrivals, for each application and direction; none if no line fails."""
        return {key: silence.longest for key, silence in self._silences.items()} if self._traffic.fails else {}

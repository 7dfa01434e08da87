"""The traffic file of the lab: lines, their rates over time, and applications.

How the traffic file says that a line's rate changes: steps and ramps by their times, or a recorded series.

down: {0 s: 40 Mbit/s, 10 s: 12 Mbit/s, 20 s: 30 Mbit/s}      steps
down: {0 s: 40 Mbit/s, 15 s: to 8 Mbit/s}                     a ramp that ends there
down: {file: mobile.csv}                                      `seconds,bit_per_second`, a row for each change
"""

import csv
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from ipaddress import ip_address
from itertools import pairwise
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field

from wily_sluice.engine.classify.header import Parties
from wily_sluice.engine.classify.service import NOTHING, PROTOCOLS_SEEN, Known
from wily_sluice.engine.line import RateSchedule, steady
from wily_sluice.forecast.lab.kinds.registry import KINDS, USUAL, Choices
from wily_sluice.forecast.lab.kinds.transfers import AMOUNTS
from wily_sluice.forecast.lab.uplinks import Failure
from wily_sluice.plan.file.document import Document, hold_against, read_document
from wily_sluice.plan.file.schema import Entry
from wily_sluice.plan.file.source import Source
from wily_sluice.plan.file.traffic_words import parse_dscp, parse_host_name
from wily_sluice.plan.file.words import Name, suggestion
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.finding import FileError, Finding
from wily_sluice.plan.model import Plan
from wily_sluice.units import (
    MILLISECOND,
    SECOND,
    Direction,
    Nanoseconds,
    Rate,
    Size,
    format_time,
    parse_rate,
    parse_size,
    parse_time,
    quoted,
)

RAMP_STEP: Nanoseconds = 50 * MILLISECOND
MOST_POINTS = 100_000


@dataclass(frozen=True, slots=True)
class CourseFile:
    """A recorded series, by the name of its file."""

    name: str


def parse_course(value: object) -> RateSchedule | CourseFile:
    """A rate, or its course over time. ValueError for anything else."""
    if isinstance(value, (RateSchedule, CourseFile)):
        return value
    if not isinstance(value, dict):
        return steady(parse_rate(value))
    if set(value) == {"file"}:
        return CourseFile(str(value["file"]))
    points = [(parse_time(at), str(rate)) for at, rate in value.items()]
    if not points or points[0][0] != 0 or any(later <= at for (at, _), (later, _) in pairwise(points)):
        raise ValueError("times begin at 0 s and grow: write it like {0 s: 40 Mbit/s, 10 s: 12 Mbit/s}")
    course: list[tuple[Nanoseconds, Rate]] = []
    for at, text in points:
        if text.startswith("to ") and course:
            begin, before = course[-1]
            rate = parse_rate(text.removeprefix("to "))
            steps = max(1, (at - begin) // RAMP_STEP)
            for step in range(1, steps):
                part = step / steps
                course.append((begin + round((at - begin) * part), round(before + (rate - before) * part)))
            course.append((at, rate))
        else:
            course.append((at, parse_rate(text)))
    return RateSchedule(tuple(course))


def read_course(text: str) -> RateSchedule:
    """A recorded series: rows of seconds and bit/s, the first at 0. ValueError for anything else."""
    points: list[tuple[Nanoseconds, Rate]] = []
    for number, row in enumerate(csv.reader(text.splitlines()), 1):
        if not row or (number == 1 and not row[0].strip()[:1].isdigit()):
            continue
        try:
            points.append((round(float(row[0]) * SECOND), round(float(row[1]))))
        except (ValueError, IndexError):
            raise ValueError(f"line {number}: {quoted(','.join(row))} is not seconds and bit/s") from None
        if len(points) > MOST_POINTS:
            raise ValueError(f"it has more than {MOST_POINTS} rows")
    return RateSchedule(tuple(points))


USUAL_DELAY: Nanoseconds = 10 * MILLISECOND
USUAL_BUFFER: Nanoseconds = 300 * MILLISECOND
LONGEST: Nanoseconds = 3600 * SECOND
MOST_FLOWS = 64
MOST_SERIES = 10_000_000  # bytes
MOST_SIZE: Size = 10**12
FINITE = ("download", "upload", "update", "backup", "scan")
ICMP = {4: 1, 6: 58}


def _address(value: object) -> bytes:
    try:
        return ip_address(str(value)).packed
    except ValueError:
        raise ValueError(f"“{value}” is not an address: write one host, like 10.61.0.41") from None


def _as_list(value: object) -> object:
    return [value] if isinstance(value, dict) else value


TimeText = Annotated[Nanoseconds, BeforeValidator(parse_time)]
SizeText = Annotated[Size, BeforeValidator(parse_size)]
CourseText = Annotated[Any, BeforeValidator(parse_course)]
Address = Annotated[bytes, BeforeValidator(_address)]


class FailureEntry(Entry):
    """A failure of a line; the default is until the end."""

    at: TimeText = Field(examples=["10 s"])
    lasts: TimeText | None = Field(default=None, alias="for", examples=["8 s"])
    silent: bool = Field(default=False, strict=True, examples=["true"])


class LineEntry(Entry):
    """The properties of a real line; the plan's figures are the defaults."""

    down: CourseText | None = Field(default=None, examples=["180 Mbit/s"])
    up: CourseText | None = Field(default=None, examples=["{0 s: 24 Mbit/s, 10 s: 8 Mbit/s}"])
    delay: TimeText = Field(default=USUAL_DELAY, examples=["9 ms"])
    buffer: TimeText = Field(default=USUAL_BUFFER, examples=["300 ms"])
    jitter: TimeText = Field(default=0, examples=["4 ms"])
    fails: Annotated[list[FailureEntry], BeforeValidator(_as_list)] = Field(
        default=[], examples=["{at: 10 s, for: 8 s}"]
    )


class ApplicationEntry(Entry):
    """One application of one host."""

    name: str = Field(examples=["Consultation"])
    kind: Literal[tuple(KINDS)] = Field(examples=["call"])  # type: ignore[valid-type]
    local: Address = Field(examples=["10.61.0.41"])
    remote: Address = Field(examples=["198.51.100.20"])
    port: Annotated[int, Field(ge=1, le=65535, strict=True)] = Field(default=443, examples=["443"])
    dscp: Annotated[Any, BeforeValidator(lambda value: parse_dscp(value)[0])] = Field(default=0, examples=["EF"])
    seen: Literal[tuple(PROTOCOLS_SEEN)] | None = Field(default=None, examples=["rtp"])  # type: ignore[valid-type]
    host: Annotated[str, BeforeValidator(parse_host_name)] | None = Field(default=None, examples=["films.example"])
    control: Literal["cubic", "ledbat", "newreno"] = Field(default="cubic", examples=["newreno"])
    size: SizeText | None = Field(default=None, examples=["40 MB"])
    every: TimeText | None = Field(default=None, examples=["30 s"])
    flows: Annotated[int, Field(ge=1, le=MOST_FLOWS, strict=True)] = Field(default=1, examples=["4"])
    at: TimeText = Field(default=0, examples=["2 s"])
    lasts: TimeText | None = Field(default=None, alias="for", examples=["20 s"])
    uplink: str | None = Field(default=None, examples=["fibre"])


class TrafficEntry(Entry):
    """The whole traffic file."""

    duration: TimeText = Field(examples=["25 s"])
    warmup: TimeText = Field(default=0, examples=["5 s"])
    seed: Annotated[int, Field(ge=0, strict=True)] = Field(default=1, examples=["61"])
    lines: dict[Name, LineEntry] = Field(default={})
    used: dict[Name, SizeText] = Field(default={}, examples=["{mobile-month: 4 GB}"])
    applications: list[ApplicationEntry | None] = Field(examples=["[{name: Call, kind: call, …}]"])


@dataclass(frozen=True, slots=True)
class RealLine:
    """A line as it really is: how its rates go, ns one way, ns of buffer at its highest rate; when it fails; the mean
    of its jitter in ns.
    """

    down: RateSchedule
    up: RateSchedule
    delay: Nanoseconds
    buffer: Nanoseconds
    failures: tuple[Failure, ...] = ()
    jitter: Nanoseconds = 0

    def course(self, direction: Direction) -> RateSchedule:
        """How the rate of a direction goes."""
        return self.up if direction == "up" else self.down


@dataclass(frozen=True, slots=True)
class Application:
    """A program on a host, from `begin` to `end`. `known` is the result of recognition.

    Without an `uplink`, each of its flows uses the routes; the first uplink if no route matches.
    """

    name: str
    kind: str
    parties: Parties
    dscp: int
    flows: int
    begin: Nanoseconds
    end: Nanoseconds
    uplink: str | None
    known: Known = NOTHING
    choices: Choices = USUAL


@dataclass(frozen=True, slots=True)
class Traffic:
    """A whole traffic file, held against a plan. `used` is what quotas had counted before it begins, by their limiters'
    names.
    """

    duration: Nanoseconds
    warmup: Nanoseconds
    seed: int
    lines: dict[str, RealLine]
    applications: tuple[Application, ...]
    used: Mapping[str, Size] = field(default_factory=dict)

    @property
    def fails(self) -> bool:
        """Whether a line fails."""
        return any(line.failures for line in self.lines.values())


def load_traffic(source: Source, plan: Plan) -> Traffic:
    """Read a traffic file for this plan. FileError with all its errors."""
    document = read_document(source, "traffic")
    reading = hold_against(document, TrafficEntry)
    findings = list(reading.findings)
    traffic = None
    if reading.content is not None:
        traffic = _traffic(reading.content, plan, document, findings)
    if findings or traffic is None:
        raise FileError(findings)
    return traffic


def _traffic(entry: TrafficEntry, plan: Plan, document: Document, findings: list[Finding]) -> Traffic:
    uplinks = {uplink.name: uplink for uplink in plan.uplinks}
    if entry.duration > LONGEST or entry.duration <= entry.warmup:
        what = f"{format_time(entry.duration)} is not between the warm-up and {format_time(LONGEST)}"
        findings.append(document.error(("duration",), what, "write it like 25 s"))
    for name in entry.lines:
        if name not in uplinks:
            message = f"the plan has no uplink “{name}”"
            findings.append(document.error(("lines", name), message, suggestion(name, list(uplinks)), "unknown-name"))
    lines = {}
    for name, uplink in uplinks.items():
        line = entry.lines.get(name, LineEntry())
        courses = []
        for way, rate, course in (("down", uplink.down, line.down), ("up", uplink.up, line.up)):
            if isinstance(course, CourseFile):
                course = _recorded(document, ("lines", name, way), course.name, findings)
            courses.append(course or steady(rate))
        failures = _failures(line, entry.duration, document, ("lines", name, "fails"), findings)
        lines[name] = RealLine(courses[0], courses[1], line.delay, line.buffer, failures, line.jitter)
    quotas = [limiter.name for limiter in plan.limiters if limiter.quota is not None and limiter.per.whom == "together"]
    for name in entry.used:
        if name not in quotas:
            message = f"the plan has no limiter “{name}” with a quota for all together"
            findings.append(document.error(("used", name), message, suggestion(name, quotas), "unknown-name"))
    applications = []
    for index, application in enumerate(entry.applications):
        if application is not None:
            where = ("applications", index)
            if application.uplink is not None and application.uplink not in uplinks:
                message = f"the plan has no uplink “{application.uplink}”"
                remedy = suggestion(application.uplink, list(uplinks))
                findings.append(document.error((*where, "uplink"), message, remedy))
            if application.local not in plan.hosts:
                message = f"{ip_address(application.local)} is in no network of the plan"
                findings.append(document.error((*where, "local"), message, "write one of your hosts"))
            if application.at >= entry.duration:
                message = f"{format_time(application.at)} is not before the end, at {format_time(entry.duration)}"
                findings.append(document.error((*where, "at"), message, "begin earlier, or run longer"))
            if len(application.local) != len(application.remote):
                findings.append(document.error((*where, "remote"), "is not of the same IP version as local"))
            findings.extend(_unfitting(application, document, where))
            applications.append(_application(application, entry.duration))
    return Traffic(entry.duration, entry.warmup, entry.seed, lines, tuple(applications), entry.used)


def _unfitting(entry: ApplicationEntry, document: Document, where: Location) -> Iterator[Finding]:
    """What is said of an application that its kind does not have."""
    if entry.size is not None and entry.kind not in (*FINITE, "pages"):
        yield document.error((*where, "size"), f"{entry.kind} has no size", f"only {_list(*FINITE)} and pages have one")
    elif entry.size is not None and not 1 <= entry.size <= MOST_SIZE:
        yield document.error((*where, "size"), f"{entry.size} B cannot be simulated", "write it like 40 MB")
    if entry.every is not None and (entry.kind not in FINITE or (entry.size is None and entry.kind not in AMOUNTS)):
        yield document.error((*where, "every"), "is only for what ends", f"it needs a `size`, of {_list(*FINITE)}")
    elif entry.every is not None and entry.every < MILLISECOND:
        yield document.error((*where, "every"), f"{format_time(entry.every)} is too short", "write it like 30 s")


def _list(*words: str) -> str:
    return ", ".join(words)


def _failures(
    entry: LineEntry, duration: Nanoseconds, document: Document, here: Location, findings: list[Finding]
) -> tuple[Failure, ...]:
    failures = []
    for failure in entry.fails:
        if failure.at >= duration:
            message = f"{format_time(failure.at)} is not before the end, at {format_time(duration)}"
            findings.append(document.error(here, message, "make it fail earlier, or run longer"))
        else:
            end = duration if failure.lasts is None else min(duration, failure.at + failure.lasts)
            failures.append(Failure(failure.at, end, failure.silent))
    return tuple(failures)


def _recorded(document: Document, here: Location, name: str, findings: list[Finding]) -> RateSchedule | None:
    """The series in a file in the folder of the traffic file; None if it cannot be read."""
    source = document.beside(name)
    try:
        return read_course(source.read(MOST_SERIES).decode())
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not text"
        findings.append(
            document.error(here, f"{source.name} cannot be read: {reason}", "name a file in the folder of this one")
        )
    except ValueError as error:
        findings.append(document.error(here, f"{source.name}: {error}", "write rows like 0,40000000"))
    return None


def _application(entry: ApplicationEntry, duration: Nanoseconds) -> Application:
    protocol, remote_port = KINDS[entry.kind].protocol, entry.port
    if not protocol:
        protocol, remote_port = ICMP[4 if len(entry.local) == 4 else 6], 0
    parties = Parties(protocol, entry.local, entry.remote, 0, remote_port)
    end = duration if entry.lasts is None else min(duration, entry.at + entry.lasts)
    known = Known(entry.seen or "", (entry.host,) if entry.host else ())
    return Application(
        entry.name,
        entry.kind,
        parties,
        entry.dscp,
        entry.flows,
        entry.at,
        end,
        entry.uplink,
        known,
        Choices(entry.control, entry.size, entry.every),
    )

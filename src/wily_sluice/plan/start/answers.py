"""The answers for a first plan: kinds of line, ranked purposes, networks and hosts."""

from dataclasses import dataclass
from typing import Annotated, Any, Final, Literal

from pydantic import AfterValidator, BeforeValidator, Field

from wily_sluice.plan.file.document import Document, hold_against, read_document
from wily_sluice.plan.file.schema import Entry, Interface, RateText, Subnet
from wily_sluice.plan.file.source import Source
from wily_sluice.plan.file.traffic_words import parse_host_name
from wily_sluice.plan.file.values import parse_directional_rate, parse_remotes, parse_timezone
from wily_sluice.plan.file.words import Name, Words, listed, suggestion
from wily_sluice.plan.findings.finding import FileError, Finding
from wily_sluice.plan.model import UNMEASURED, Directional
from wily_sluice.plan.schedules.schedule import Entries
from wily_sluice.units import DIRECTIONS, Rate


@dataclass(frozen=True, slots=True)
class LineKind:
    """`headroom` is in percent, up and down; `why` gives the reason."""

    name: str
    words: str
    framing: str
    up: int
    down: int
    why: str


LINE_KINDS: Final = {
    kind.name: kind
    for kind in (
        LineKind("fibre", "fibre without a login", "ethernet", 5, 5, "fibre keeps its rate, so little is left free"),
        LineKind("fibre-login", "fibre with a login", "pppoe", 5, 5, "fibre keeps its rate, so little is left free"),
        LineKind("copper-login", "copper with a login", "pppoe over ptm", 10, 10, "copper loses some rate on bad days"),
        LineKind("cable", "a cable modem", "ethernet over cable", 10, 15, "the street shares the cable, mostly down"),
        LineKind("router", "behind another router", "ethernet", 8, 8, "the other router may queue packets too"),
        LineKind("radio", "mobile or radio", "ip", 25, 25, "the rate of radio comes and goes"),
    )
}


@dataclass(frozen=True, slots=True)
class Purpose:
    """A purpose of the uplink. `services` are categories; `small` traffic needs little and can have the first priority.
    `late` is the priority of traffic that can wait.
    """

    name: str
    words: str
    services: tuple[str, ...]
    small: bool = False
    late: int = 5
    cap: str = ""


PURPOSES: Final = {
    kind.name: kind
    for kind in (
        Purpose("calls", "telephone calls", ("calls",), small=True, cap="50%"),
        Purpose("meetings", "meetings with video", ("meetings",), small=True, cap="80%"),
        Purpose("play", "games", ("play",), small=True, cap="50%"),
        Purpose("web", "pages", ("web",)),
        Purpose("work", "work: files, mail, remote desks, tunnels", ("files", "mail", "remote-desks", "tunnels")),
        Purpose("streaming", "films and music", ("streaming",)),
        Purpose("downloads", "downloads, and everything else", ()),
        Purpose("updates", "updates of devices", ("updates",), late=7),
        Purpose("swarms", "swarms of file sharers", ("swarms",), late=8),
    )
}
SHARES: Final = (20, 16, 13, 11, 9, 8, 7, 5, 3)  # percent that is guaranteed, by place
BASE: Final = 2  # percent for names and time
BASE_CAP: Final = "15%"
GUESTS: Final = 3
GUESTS_PRIORITY: Final = 9  # behind all purposes of the house's own
ACKS_PRIORITY: Final = 4  # behind what is small and cannot wait, before all else
ALIASES: Final = {
    "games": "play", "game": "play", "gaming": "play", "films": "streaming", "film": "streaming", "movies": "streaming",
    "music": "streaming", "video": "meetings", "conferences": "meetings", "phone": "calls", "voice": "calls",
    "pages": "web", "browsing": "web", "files": "downloads", "mail": "work", "torrents": "swarms",
}  # fmt: skip


def purpose(word: str) -> str:
    """The purpose that a word means: its name, or what people call it. ValueError with those that there are."""
    word = word.lower()
    word = ALIASES.get(word, word)
    if word not in PURPOSES:
        raise ValueError(f"there is no “{word}”: use {', '.join(PURPOSES)}")
    return word


def ranked(first: tuple[str, ...]) -> list[str]:
    """All purposes: those that were named, then the others in their usual order."""
    return [*first, *(name for name in PURPOSES if name not in first)]


KindName = Literal["fibre", "fibre-login", "copper-login", "cable", "router", "radio"]
PurposeName = Literal["calls", "meetings", "play", "web", "work", "streaming", "downloads", "updates", "swarms"]
Rates = Annotated[Directional[Rate] | None, BeforeValidator(parse_directional_rate)]


def _purposes(value: object) -> tuple[str, ...]:
    return tuple(ALIASES.get(str(word).lower(), str(word)) for word in listed(value))


def _names(words: Words) -> Words:
    return tuple(parse_host_name(word) for word in words)


class LineAnswer(Entry):
    """An uplink: advertised and measured rates, at least one. `probe` are remotes that always answer."""

    interface: Interface = Field(examples=["wan0"])
    kind: KindName = Field(examples=["fibre-login"])
    advertised: Rates = Field(default=None, examples=["{down: 200 Mbit/s, up: 25 Mbit/s}"])
    measured: Rates = Field(default=None, examples=["{down: 180 Mbit/s, up: 24 Mbit/s}"])

    probe: Annotated[Words, AfterValidator(parse_remotes)] = Field(default=(), examples=["[198.51.100.53]"])

    def rate(self, way: Any) -> Rate | None:
        """The rate that the plan uses."""
        for rates, part in ((self.measured, 1.0), (self.advertised, UNMEASURED)):
            rate = rates.of(way) if rates is not None else None
            if rate is not None:
                return round(rate * part)
        return None


class NetworkAnswer(Entry):
    """Hosts behind an interface."""

    interface: Interface = Field(examples=["lan0"])
    subnets: Annotated[list[Subnet], BeforeValidator(listed), Field(min_length=1)] = Field(examples=["[192.0.2.0/24]"])


class GuestsAnswer(Entry):
    """A network of guests, and the limit for each guest."""

    network: str = Field(examples=["guests"])
    down: RateText = Field(examples=["5 Mbit/s"])
    up: RateText = Field(examples=["1 Mbit/s"])


class HostAnswer(Entry):
    """One host that takes too much."""

    addresses: Words = Field(examples=['["02:00:5e:10:00:07"]'])
    down: RateText = Field(examples=["20 Mbit/s"])
    up: RateText = Field(examples=["2 Mbit/s"])


class AnswersEntry(Entry):
    """All answers."""

    site: str = Field(examples=["Heron Cottage"])
    timezone: Annotated[str, BeforeValidator(parse_timezone)] = Field(default="UTC", examples=["Europe/Dublin"])
    uplinks: Annotated[dict[Name, LineAnswer], Field(min_length=1)] = Field(
        examples=["{fibre: {interface: wan0, kind: fibre, measured: {down: 180 Mbit/s, up: 24 Mbit/s}}}"]
    )
    networks: Annotated[dict[Name, NetworkAnswer], Field(min_length=1)] = Field(
        examples=["{home: {interface: lan0, subnets: [192.0.2.0/24]}}"]
    )
    first: Annotated[tuple[PurposeName, ...], BeforeValidator(_purposes)] = Field(
        default=(), examples=["[calls, play]"]
    )
    films: Annotated[Words, AfterValidator(_names)] = Field(default=(), examples=["[films.example]"])
    guests: GuestsAnswer | None = None
    host: HostAnswer | None = None
    alike: bool = False
    when: Annotated[tuple[Any, ...], BeforeValidator(lambda value: tuple(listed(value)))] = Field(
        default=(), examples=["[mon-fri 08:00-18:30]"]
    )


def read_answers(source: Source) -> AnswersEntry:
    """Answers from a file. FileError with all that is wrong with them."""
    document = read_document(source, "questionnaire")
    reading = hold_against(document, AnswersEntry)
    findings = list(reading.findings)
    if reading.content is not None:
        findings += _wrong(document, reading.content)
    if findings or reading.content is None:
        raise FileError(findings)
    return reading.content


def _wrong(document: Document, answers: AnswersEntry) -> list[Finding]:
    """What does not fit together."""
    problems = []
    for name, line in answers.uplinks.items():
        for way in DIRECTIONS:
            if line.rate(way) is None:
                remedy = "add `measured: {down: 180 Mbit/s, up: 24 Mbit/s}`, or `advertised`"
                problems.append(document.error(("uplinks", name), f"has no rate {way}", remedy))
    if answers.guests is not None and answers.guests.network not in answers.networks:
        message = f"there is no network “{answers.guests.network}”"
        hint = suggestion(answers.guests.network, list(answers.networks))
        problems.append(document.error(("guests", "network"), message, hint, "unknown-name"))
    if twice := [name for name in answers.first if answers.first.count(name) > 1]:
        problems.append(document.error(("first",), f"“{twice[0]}” is named twice", "name it once"))
    entries = Entries()
    for index, line in enumerate(answers.when):
        try:
            entries.add(line)
        except ValueError as error:
            problems.append(document.error(("when", index), str(error), code="bad-value"))
    return problems

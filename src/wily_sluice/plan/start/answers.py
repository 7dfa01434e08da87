"""The answers for a first plan, from a file or given one at a time."""

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Field

from wily_sluice.plan.file.document import Document, hold_against, read_document
from wily_sluice.plan.file.schema import Entry, Interface, RateText, Subnet
from wily_sluice.plan.file.source import Source
from wily_sluice.plan.file.suggestion import suggestion
from wily_sluice.plan.file.traffic_words import parse_host_name
from wily_sluice.plan.file.values import parse_directional_rate, parse_remotes, parse_timezone
from wily_sluice.plan.file.words import Name, Words, listed
from wily_sluice.plan.findings.finding import FileError, Finding
from wily_sluice.plan.model import UNMEASURED, Directional
from wily_sluice.plan.schedules.schedule import Entries
from wily_sluice.plan.start.ranking import ALIASES
from wily_sluice.units import DIRECTIONS, Rate

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
    found = []
    for name, line in answers.uplinks.items():
        for way in DIRECTIONS:
            if line.rate(way) is None:
                remedy = "add `measured: {down: 180 Mbit/s, up: 24 Mbit/s}`, or `advertised`"
                found.append(document.error(("uplinks", name), f"has no rate {way}", remedy))
    if answers.guests is not None and answers.guests.network not in answers.networks:
        message = f"there is no network “{answers.guests.network}”"
        hint = suggestion(answers.guests.network, list(answers.networks))
        found.append(document.error(("guests", "network"), message, hint, "unknown-name"))
    if twice := [name for name in answers.first if answers.first.count(name) > 1]:
        found.append(document.error(("first",), f"“{twice[0]}” is named twice", "name it once"))
    entries = Entries()
    for index, line in enumerate(answers.when):
        try:
            entries.add(line)
        except ValueError as error:
            found.append(document.error(("when", index), str(error), code="bad-value"))
    return found

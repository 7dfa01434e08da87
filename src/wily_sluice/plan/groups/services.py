"""Services: the built-in ones, those of files in the plan's folder, and those in the plan itself.

A word in a rule means the service of that name, or all services of the category of that name. If two have the same
name, the plan's has precedence over a file's, and a file's over a built-in one.
"""

from collections.abc import Callable, Mapping
from functools import cache
from importlib.resources import files

from wily_sluice.plan.file.document import Document, Reading, hold_against, read_document
from wily_sluice.plan.file.schema import CatalogueEntry, PlanEntry, ServiceEntry
from wily_sluice.plan.file.words import suggestion
from wily_sluice.plan.file.yaml_text import Location, parse
from wily_sluice.plan.findings.finding import FileError, Finding
from wily_sluice.plan.groups.members import Groups
from wily_sluice.plan.terms import Members, Service

CATALOGUE = files("wily_sluice.plan") / "catalogue"


@cache
def shipped() -> tuple[tuple[str, CatalogueEntry], ...]:
    """The files of the catalogue that comes with the program, by name."""
    files = sorted((file.name, file.read_text()) for file in CATALOGUE.iterdir() if file.name.endswith(".yaml"))
    return tuple((name.removesuffix(".yaml"), CatalogueEntry.model_validate(parse(text)[0])) for name, text in files)


def _service(name: str, category: str, entry: ServiceEntry, remote: Members, own: bool) -> Service:
    return Service(
        name,
        entry.category or category,
        entry.about,
        entry.ports,
        entry.seen,
        entry.names,
        remote,
        entry.shape or "",
        entry.over,
        own,
    )


def shipped_services() -> dict[str, Service]:
    """The services that come with the program, by name."""
    return {
        name: _service(name, file.category, entry, Members(), own=False)
        for _, file in shipped()
        for name, entry in file.services.items()
    }


class Services:
    """All services that a plan may name, worked out when one is first asked for."""

    def __init__(self, reading: Reading[PlanEntry], groups: Groups, tell: Callable[[Finding], None]) -> None:
        self._reading = reading
        self._document = reading.document
        self._groups = groups
        self._tell = tell
        self._all: dict[str, Service] | None = None
        self.used: dict[str, Service] = {}

    def own(self, entries: Mapping[str, ServiceEntry]) -> dict[str, Service]:
        """The services in the plan itself."""
        services = {}
        for name, entry in entries.items():
            remote = Members()
            for word in entry.remote or ():
                remote |= self._groups.members(("services", name, "remote"), word)
            services[name] = _service(name, "own", entry, remote, own=True)
            self._require_sign(services[name], self._document, ("services", name), self._reading.cut)
        return services

    def _require_sign(self, service: Service, document: Document, location: Location, cut: set[Location]) -> None:
        signs = service.ports or service.seen or service.names or service.remote or service.shape
        if not signs and not any(part[: len(location)] == location for part in cut):
            message = "has nothing to recognise it by"
            self._tell(document.error(location, message, "add ports, seen, names, remote or shape"))

    def _of_file(self, name: str) -> dict[str, Service]:
        source = self._document.beside(name)
        try:
            reading = hold_against(read_document(source, "catalogue"), CatalogueEntry)
        except FileError as error:
            for finding in error.findings:
                self._tell(finding)
            return {}
        for finding in reading.findings:
            self._tell(finding)
        services = {}
        if reading.content is not None:
            groups = Groups(Reading(reading.document, None, [], set()), {}, self._tell)
            for word, entry in reading.content.services.items():
                here = ("services", word)
                remote = Members()
                for text in entry.remote or ():
                    remote |= groups.members((*here, "remote"), text)
                services[word] = _service(word, reading.content.category, entry, remote, own=True)
                self._require_sign(services[word], reading.document, here, reading.cut)
        return services

    def all(self) -> dict[str, Service]:
        """Every service by its name."""
        if self._all is None:
            content = self._reading.content
            self._all = shipped_services()
            for word in content.catalogues if content is not None else ():
                self._all |= self._of_file(word)
            self._all |= self.own(content.services if content is not None else {})
            self.used |= {name: service for name, service in self._all.items() if service.own}
        return self._all

    def named(self, location: Location, words: tuple[str, ...]) -> tuple[Service, ...]:
        """The services that words mean. Unknown words are reported."""
        services: dict[str, Service] = {}
        everything = self.all()
        for word in words:
            if word in everything:
                services[word] = everything[word]
                continue
            category = {name: service for name, service in everything.items() if service.category == word}
            if not category and not self._reading.was_cut("services", word):
                known = [*everything, *dict.fromkeys(service.category for service in everything.values())]
                message = f"there is no service or category “{word}”"
                self._tell(
                    self._document.error(
                        location, message, suggestion(word, known, "`sluice show services` lists them"), "unknown-name"
                    )
                )
            services |= category
        self.used |= services
        return tuple(services.values())

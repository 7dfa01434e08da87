"""Resolves the words in the terms of rules and limiters, and reports unknown ones."""

from collections.abc import Callable, Iterable, Mapping
from typing import Any, Final, Literal

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.neighbours import GATEWAY
from wily_sluice.plan.fields.registry import FIELDS
from wily_sluice.plan.fields.traffic import LOCAL_PORT_FIELD, PORT, REMOTE_PORT_FIELD
from wily_sluice.plan.file.document import Reading
from wily_sluice.plan.file.schema import PlanEntry, TermsEntry
from wily_sluice.plan.file.words import suggestion
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.groups.members import Groups
from wily_sluice.plan.groups.services import Services
from wily_sluice.plan.terms import Members, Party, PortWords, Service, Terms

ATTRIBUTES: Final = tuple((field, field.attribute) for field in FIELDS)
PORT_KEYS: Final = (PORT.key, LOCAL_PORT_FIELD.key, REMOTE_PORT_FIELD.key)


def by_transport(asked: dict[str, Any]) -> tuple[dict[str, Any], tuple[Terms, ...]]:
    """The fields with plain ports instead of ports with transports, and blocks for the difference.

    `port: 80/tcp` is `protocol: tcp` with `port: 80`; with several transports, each becomes a block.
    """
    asked, blocks = dict(asked), []
    for key in [key for key in PORT_KEYS if key in asked]:
        spans: dict[int | None, tuple[tuple[int, int], ...]] = {}
        for protocol, span in asked.pop(key):
            spans[protocol] = (*spans.get(protocol, ()), span)
        only = next(iter(spans), None)
        if len(spans) <= 1 and (only is None or only in asked.get("protocol", (only,))):
            asked[key] = spans.get(only, ())
            if only is not None:
                asked["protocol"] = (only,)
            continue
        each = (
            Terms({key: ports} if protocol is None else {"protocol": (protocol,), key: ports})
            for protocol, ports in spans.items()
        )
        blocks.append(Terms(any=tuple(each)))
    return asked, tuple(blocks)


class Resolver:
    """For one plan file. `networks` are its networks by name."""

    def __init__(
        self,
        reading: Reading[PlanEntry],
        networks: Mapping[str, AddressSet],
        tell: Callable[[Finding], None],
    ) -> None:
        self._reading = reading
        self._document = reading.document
        self._networks = networks
        self._told = 0
        self._parties: dict[tuple[tuple[str, ...], bool], Party] = {}  # those that nothing is wrong with

        def counted(finding: Finding) -> None:
            self._told += 1
            tell(finding)

        self._tell = counted
        self.groups = Groups(reading, networks, counted)
        self.services = Services(reading, self.groups, counted)

    def _error(self, location: Location, message: str, remedy: str = "", code: str = "does-not-fit") -> None:
        self._tell(self._document.error(location, message, remedy, code))

    def terms(self, here: Location, e: TermsEntry, but: tuple[str, ...] = ()) -> Terms:
        """The terms of an entry; fields with the keys in `but` mean something else in it."""

        def parts(key: str, entries: Iterable[TermsEntry | None]) -> tuple[Terms, ...]:
            places = ((*here, key, index) for index, _ in enumerate(entries))
            return tuple(
                self.terms(index if index in self._document.lines else index[:-1], part)
                for index, part in zip(places, entries, strict=False)
                if part is not None
            )

        words = ((field, getattr(e, attribute)) for field, attribute in ATTRIBUTES if field.key not in but)
        asked, transports = by_transport(
            {field.key: field.resolve(value, (*here, field.key), self) for field, value in words if value is not None}
        )
        return Terms(
            asked,
            any=parts("any", e.any_),
            all=(*transports, *parts("all", e.all_)),
            none=parts("not", e.not_),
        )

    def ports(self, location: Location, words: tuple[str | int, ...]) -> PortWords:
        """Ports, and groups of ports."""
        return self.groups.ports(location, words)

    def services_named(self, location: Location, words: tuple[str, ...]) -> tuple[Service, ...]:
        """The services that words mean."""
        return self.services.named(location, words)

    def expect(self, location: Location, what: Literal["schedule", "uplink"], word: str) -> None:
        """That there is one of this name."""
        self.require(location, what, word, self._names(f"{what}s"))

    def _names(self, key: str) -> list[str]:
        return list(getattr(self._reading.content, key))

    def require(self, location: Location, what: str, word: str | None, known: list[str]) -> None:
        """Report a word that is not among the known ones."""
        if word is not None and word not in known and not self._reading.was_cut(f"{what}s", word):
            self._error(location, f"there is no {what} “{word}”", suggestion(word, known), "unknown-name")

    def party(self, location: Location, words: tuple[str, ...], remote: bool = False) -> Party:
        """The party on one side."""
        known = self._parties.get((words, remote))
        if known is not None:
            return known
        members, warned = Members(), self._told
        for index, word in enumerate(words):
            where = (*location, index) if (*location, index) in self._document.lines else location
            if remote and word in (*self._networks, GATEWAY.name):
                own = "this machine itself" if word == GATEWAY.name else "your own network"
                self._error(where, f"“{word}” is {own}; remote is the far side", f"write local: {word}")
                continue
            members_of = self.groups.members(where, word)
            if remote and members_of.hardware:
                remedy = "write its addresses"
                self._error(where, f"“{word}” has hardware addresses, which the far side does not show", remedy)
            if not remote and members_of.names:
                remedy = "write its address, or its hardware address"
                self._error(where, f"“{word}” has host names, which are known of remotes only", remedy)
            if members_of.ports and not (members_of.addresses or members_of.hardware or members_of.names):
                self._error(where, f"“{word}” is a group of ports", f"write port: {word}")
            members |= members_of
        party = Party(words, members)
        if warned == self._told:
            self._parties[words, remote] = party
        return party

    def in_networks(self, location: Location, words: tuple[str, ...]) -> Party:
        """The hosts of some networks."""
        inside = AddressSet()
        for word in words:
            if word in self._networks:
                inside |= self._networks[word]
            else:
                self.require(location, "network", word, list(self._networks))
        return Party(words, Members(inside))

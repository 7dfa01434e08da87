"""Groups, with all hosts that they contain, and names of hosts.

Who a group or a word means: addresses, hardware addresses, ports; with groups in groups, files and exceptions.

Everything that is wrong with them is handed to `tell` as a finding.
"""

import csv
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from ipaddress import ip_address
from itertools import islice

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.neighbours import GATEWAY
from wily_sluice.plan.edit.operations import Operation, Remove
from wily_sluice.plan.file.document import Reading
from wily_sluice.plan.file.schema import GroupEntry, HostEntry, PlanEntry
from wily_sluice.plan.file.traffic_words import looks_like_host_name, parse_host_name, parse_port_word, port_words_text
from wily_sluice.plan.file.words import address_set, hardware_text, looks_like_address, parse_hardware, suggestion
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.groups.place_file import AS_NUMBER_PATHS, COUNTRY_PATHS, Where, members_where
from wily_sluice.plan.model import Plan
from wily_sluice.plan.terms import Members, PortWords

MOST_LINES = 100_000
MOST_LIST = 50_000_000  # bytes of a list in a file


def member_words(members: Members) -> list[str]:
    """Each address, range, hardware address and port as text."""
    words = str(members.addresses).split(", ") if members.addresses else []
    words += [hardware_text(address) for address in sorted(members.hardware)]
    words += sorted(members.names)
    return words + ([f"port {port_words_text(members.ports)}"] if members.ports else [])


def _as_group(host: HostEntry) -> GroupEntry:
    words = [*host.addresses, *host.hardware]
    return GroupEntry.model_validate({"members": words} if words else {})


class Groups:
    """The groups of a plan file, worked out when they are first asked for. `found` has those that were."""

    def __init__(
        self, reading: Reading[PlanEntry], networks: Mapping[str, AddressSet], tell: Callable[[Finding], None]
    ) -> None:
        self._reading = reading
        self._document = reading.document
        content = reading.content
        hosts = content.hosts if content is not None else {}
        self._hosts = frozenset(hosts)
        self._entries: Mapping[str, GroupEntry] = {
            **{name: _as_group(host) for name, host in hosts.items()},
            **(content.groups if content is not None else {}),
        }
        self._networks = networks
        self._tell = tell
        self.found: dict[str, Members] = {}
        self._places: dict[str, dict[str, Members] | str] = {}  # by file, what groups ask of it; or what is wrong
        self._wrong = False  # somewhere in the group that is being worked out

    def _error(self, location: Location, message: str, remedy: str = "", code: str = "does-not-fit") -> None:
        self._wrong = True
        self._tell(self._document.error(location, message, remedy, code))

    def _warn(self, code: str, location: Location, message: str, remedy: str, fix: tuple[Operation, ...] = ()) -> None:
        if not self._document.allows(code, location):
            self._tell(self._document.finding("warning", location, message, remedy, code, fix))

    def group(self, name: str, within: tuple[str, ...] = ()) -> Members:
        """The members of a group, or a host's addresses; `within` are the groups being worked out that led here."""
        if name in self.found:
            return self.found[name]
        entry = self._entries[name]
        here = ("hosts" if name in self._hosts else "groups", name)
        before, self._wrong = self._wrong, False
        members = Members(ports=tuple(part for word in entry.ports for part in self._ports(here, word)))
        members |= self._all(entry.members, (*here, "members"), here, (*within, name))
        if entry.file is not None:
            members |= self._from_file((*here, "file"), entry.file, (*within, name))
        if entry.database is not None:
            members |= self._from_database(name, entry)
        elif entry.asks_database:
            key = "country" if entry.country else "as-number" if entry.as_number else "where"
            self._error((*here, key), "needs an MMDB file to look this up in", "add `database: places.mmdb`")
        taken = self._all(entry.except_, (*here, "except"), here, (*within, name))
        outside = taken.addresses - members.addresses
        if outside and not any(cut[:1] in (("groups",), ("networks",)) for cut in self._reading.cut):
            message = f"{outside} is excluded but not a member"
            self._warn("exception-unused", (*here, "except"), message, "remove it from “except”")
        members -= taken
        wrong = self._wrong
        self._wrong = before or wrong
        cut = any(cut[:1] in (("groups",), ("networks",)) for cut in self._reading.cut)
        if not members and not cut and not wrong:
            self._warn("group-empty", here, "has no members", "add some or remove it")
        self.found[name] = members
        return members

    def _all(self, words: Iterable[str], listed: Location, owner: Location, within: tuple[str, ...]) -> Members:
        """The members that several words mean together. Overlaps are reported."""
        together = Members()
        for index, word in enumerate(words):
            location: Location = next(
                (place for place in ((*listed, index), (*owner, index)) if place in self._document.lines), listed
            )
            if location not in self._document.lines:
                location = owner
            members = self.members(location, word, within)
            twice = members.addresses & together.addresses
            if twice:
                message = f"{twice} is a member already, by a word before “{word}”"
                whole = twice == members.addresses and not (members.hardware or members.names or members.ports)
                listed_here = whole and isinstance(location[-1], int)
                self._warn(
                    "member-twice", location, message, "name it once", (Remove(location),) if listed_here else ()
                )
            together |= members
        return together

    def members(self, location: Location, word: str, within: tuple[str, ...] = ()) -> Members:
        """Who a word means: a group, a network, an address, a range, a subnet, a hardware address, or a host name."""
        if word in within:
            circle = " → ".join((*within[within.index(word) :], word))
            self._error(location, f"a group cannot contain itself: {circle}", f"remove “{word}”")
        elif word in self._entries:
            return self.group(word, within)
        elif word in self._networks:
            return Members(self._networks[word])
        elif word == GATEWAY.name:
            return Members(GATEWAY.addresses)
        elif (hardware := parse_hardware(word)) is not None:
            return Members(hardware=frozenset([hardware]))
        elif looks_like_address(word):
            try:
                return Members(address_set(word))
            except ValueError as error:
                self._error(location, str(error))
        elif looks_like_host_name(word):
            try:
                return Members(names=frozenset([parse_host_name(word)]))
            except ValueError as error:
                self._error(location, str(error))
        elif not (self._reading.was_cut("groups", word) or self._reading.was_cut("networks", word)):
            known = [*self._entries, *self._networks, GATEWAY.name]
            self._error(
                location, f"there is no host, group or network “{word}”", suggestion(word, known), "unknown-name"
            )
        return Members()

    def ports(self, location: Location, words: Iterable[str | int]) -> PortWords:
        """The ports that words mean: numbers, ranges, and groups of ports."""
        return tuple(part for word in words for part in self._ports(location, word))

    def _ports(self, location: Location, word: str | int) -> PortWords:
        if isinstance(word, str) and word in self._entries:
            ports = self.group(word).ports
            if not ports:
                self._error(location, f"the group “{word}” has no ports", "add `ports: […]` to it")
            return ports
        try:
            return (parse_port_word(word),)
        except ValueError as error:
            self._error(location, str(error))
            return ()

    def _from_file(self, location: Location, name: str, within: tuple[str, ...]) -> Members:
        """The members in a text or CSV file in the plan's folder: one per line, or in the first column."""
        source = self._document.beside(name)
        members = Members()
        try:
            lines = source.read(MOST_LIST).decode("utf-8-sig").splitlines()
        except (OSError, UnicodeDecodeError) as error:
            reason = error.strerror if isinstance(error, OSError) else "it is not text"
            self._error(location, f"{source.name} cannot be read: {reason}", "name a file in the folder of the plan")
            return members
        if len(lines) > MOST_LINES:
            self._error(location, f"{source.name} has {len(lines)} lines; a list may have {MOST_LINES}")
            return members
        ranges: list[AddressSet] = []
        hardware: set[bytes] = set()
        names: set[str] = set()
        for number, line in enumerate(lines, 1):
            entry = line.partition("#")[0].strip()
            word = next(csv.reader([entry]), [""])[0].strip() if entry else ""
            if not word or (number == 1 and word.lower() in ("address", "host", "ip", "mac", "member", "prefix")):
                continue
            if (address := parse_hardware(word)) is not None:
                hardware.add(address)
                continue
            if looks_like_host_name(word) and not looks_like_address(word):
                with suppress(ValueError):
                    names.add(parse_host_name(word))
                    continue
            try:
                ranges.append(address_set(word))
            except ValueError as error:
                self._tell(Finding("error", source.name, number, f"groups.{within[-1]}", str(error), "", "bad-value"))
        together = AddressSet(part for addresses in ranges for part in addresses)
        return Members(together, frozenset(hardware), (), frozenset(names))

    def _from_database(self, name: str, entry: GroupEntry) -> Members:
        """The remotes whose entries in an MMDB file in the plan's folder match all criteria."""
        location = ("groups", name, "database")
        if not entry.asks_database:
            remedy = "add `country: [XA]`, `as-number: 64503` or `where: {PATH: VALUE}`"
            self._error(location, "does not select any entries", remedy)
            return Members()
        file = entry.database or ""
        if file not in self._places:
            asking = {name: e for name, e in self._entries.items() if e.database == file and e.asks_database}
            try:
                members = members_where(self._document.beside(file), *map(_where, asking.values()))
                self._places[file] = dict(zip(asking, members, strict=True))
            except ValueError as error:
                self._places[file] = str(error)
        places = self._places[file]
        if isinstance(places, dict):
            return places[name]
        self._error(location, places, "name an MMDB file in the folder of the plan")
        return Members()


def _where(entry: GroupEntry) -> Where:
    where: dict[tuple[str, ...], tuple[str, ...]] = {(path,): values for path, values in entry.where.items()}
    where |= {COUNTRY_PATHS: entry.country} if entry.country else {}
    return where | ({AS_NUMBER_PATHS: entry.as_number} if entry.as_number else {})


def host_names(plan: Plan) -> dict[str, str]:
    """The names by the addresses, as these are written."""
    names: dict[str, str] = {}
    for name, members in plan.groups.items():
        ranges = list(islice(members.addresses, 3))
        single = all(first == last for first, last in ranges)
        if single and not members.names and [len(first) for first, _ in ranges] in ([4], [16], [4, 16]):
            names.update({str(ip_address(first)): name for first, _ in ranges})
    for name, members in plan.named_hosts.items():
        names.update({str(ip_address(first)): name for first, _ in members.addresses})
    return names | {str(ip_address(first)): GATEWAY.name for first, _ in GATEWAY.addresses}


def hardware_names(plan: Plan) -> dict[str, str]:
    """The names by the hardware addresses, as these are written."""
    return {
        hardware_text(hardware): name
        for named in (plan.groups, plan.named_hosts)
        for name, members in named.items()
        if len(members.hardware) == 1 or named is plan.named_hosts
        for hardware in members.hardware
    }


def host_label(address: str, names: Mapping[str, str]) -> str:
    """A host's name and address; for the gateway, which has many addresses, only the name."""
    name = names.get(address, "")
    return name if name == GATEWAY.name else f"{name} {address}".strip()

"""Follows the words of a rule's or a limiter's terms to what they stand for; tells what they do not."""

from collections.abc import Callable, Iterable, Mapping

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.plan.file.document import Reading, suggestion
from wily_sluice.plan.file.schema import PlanEntry, TermsEntry
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.groups.members import Groups
from wily_sluice.plan.groups.services import Services
from wily_sluice.plan.model import Members, Party, Terms


class Follower:
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
        self._tell = tell
        self.groups = Groups(reading, networks, tell)
        self.services = Services(reading, self.groups, tell)

    def _error(self, location: Location, message: str, remedy: str = "") -> None:
        self._tell(self._document.error(location, message, remedy))

    def terms(self, here: Location, e: TermsEntry) -> Terms:
        """What an entry asks."""

        def ports(key: str) -> tuple[tuple[int, int], ...] | None:
            words = getattr(e, key.replace("-", "_"))
            return self.groups.ports((*here, key), words) if words is not None else None

        def parts(key: str, entries: Iterable[TermsEntry | None]) -> tuple[Terms, ...]:
            places = ((*here, key, place) for place, _ in enumerate(entries))
            return tuple(
                self.terms(place if place in self._document.lines else place[:-1], part)
                for place, part in zip(places, entries, strict=False)
                if part is not None
            )

        self.require((*here, "when"), "schedule", e.when, self._names("schedules"))
        for uplink in e.uplink or ():
            self.require((*here, "uplink"), "uplink", uplink, self._names("uplinks"))
        return Terms(
            local=self.party((*here, "local"), e.local),
            remote=self.party((*here, "remote"), e.remote, remote=True),
            networks=self.in_networks((*here, "network"), e.network) if e.network is not None else None,
            uplinks=e.uplink,
            services=self.services.named((*here, "service"), e.service) if e.service is not None else None,
            service_words=e.service or (),
            protocols=e.protocol,
            ports=ports("port"),
            local_ports=ports("local-port"),
            remote_ports=ports("remote-port"),
            dscps=e.dscp,
            version=e.version,
            moved=e.moved,
            rate=e.rate,
            kinds=sum(set(e.packet or ())),
            when=e.when,
            any=parts("any", e.any_),
            all=parts("all", e.all_),
            none=parts("not", e.not_),
        )

    def _names(self, key: str) -> list[str]:
        return list(getattr(self._reading.content, key))

    def require(self, location: Location, what: str, word: str | None, known: list[str]) -> None:
        """Tell when a word is none of those that are known."""
        if word is not None and word not in known and not self._reading.was_cut(f"{what}s", word):
            self._error(location, f"there is no {what} “{word}”", suggestion(word, known))

    def party(self, location: Location, words: tuple[str, ...] | None, remote: bool = False) -> Party | None:
        """Who is meant on one side."""
        if words is None:
            return None
        members = Members()
        for place, word in enumerate(words):
            where = (*location, place) if (*location, place) in self._document.lines else location
            if remote and word in self._networks:
                self._error(where, f"“{word}” is your own network; remote is the far side", f"write local: {word}")
                continue
            found = self.groups.members(where, word)
            if remote and found.hardware:
                remedy = "write its addresses"
                self._error(where, f"“{word}” has hardware addresses, which the far side does not show", remedy)
            if not remote and found.names:
                remedy = "write its address, or its hardware address"
                self._error(where, f"“{word}” has host names, which are known of remotes only", remedy)
            if found.ports and not (found.addresses or found.hardware or found.names):
                self._error(where, f"“{word}” is a group of ports", f"write port: {word}")
            members |= found
        return Party(words, members)

    def in_networks(self, location: Location, words: tuple[str, ...]) -> Party:
        """The hosts of some networks."""
        inside = AddressSet()
        for word in words:
            if word in self._networks:
                inside |= self._networks[word]
            else:
                self.require(location, "network", word, list(self._networks))
        return Party(words, Members(inside))

    def within_networks(self, location: Location, words: tuple[str, ...], local: Party | None) -> Party:
        """The hosts of some networks, or those of `local` that are in them."""
        networks = self.in_networks(location, words)
        if local is None:
            return networks
        members = Members(local.addresses & networks.addresses, local.members.hardware)
        return Party((*local.words, f"in {' or '.join(words)}"), members)

"""Fields about the parties of a conversation: `uplink`, `local`, `network`, `remote`, `version`."""

from collections.abc import Iterable
from typing import Annotated

from pydantic import BeforeValidator

from wily_sluice.engine.classify.addresses import NameSet
from wily_sluice.engine.classify.condition import AnyOf, Condition, LocalIs, RemoteIs, VersionIs
from wily_sluice.plan.field import Engine, Field, Names, Space
from wily_sluice.plan.file.words import Words
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.reach.regions import IPV6_BEGINS, LOCAL, REMOTE, UPLINK, Box, ranges
from wily_sluice.plan.terms import Party
from wily_sluice.units import quoted


class Uplink(Field[tuple[str, ...]]):
    """Names of uplinks."""

    key, entry, example, turn = "uplink", Words, "fibre", 80

    def resolve(self, words: tuple[str, ...], here: Location, names: Names) -> tuple[str, ...]:
        """They, if there are such."""
        for word in words:
            names.expect(here, "uplink", word)
        return words

    def condition(self, asked: tuple[str, ...], engine: Engine) -> Condition | None:
        """Each uplink has separate conditions: always true on these uplinks, never on others."""
        return None if engine.uplink in asked else AnyOf((), self.key)

    def boxes(self, asked: tuple[str, ...], space: Space) -> Iterable[Box]:
        """These, by their order in the plan."""
        return [{UPLINK: ranges((index, index) for index, name in enumerate(space.uplinks) if name in asked)}]

    def text(self, asked: tuple[str, ...]) -> str:
        """`fibre or spare`."""
        return " or ".join(asked)

    def phrase(self, asked: tuple[str, ...]) -> str:
        """Over which."""
        return f" over {self.text(asked)}"


UPLINK_FIELD = Uplink()


class Local(Field[Party]):
    """Hosts, by address, hardware address or group."""

    key, entry, example, turn = "local", Words, "handsets", 10

    def resolve(self, words: tuple[str, ...], here: Location, names: Names) -> Party:
        """Whom they mean."""
        return names.party(here, words)

    def condition(self, asked: Party, engine: Engine) -> Condition:
        """The local party is in this set."""
        return LocalIs(asked.addresses, asked.members.hardware)

    def boxes(self, asked: Party, space: Space) -> Iterable[Box]:
        """Their addresses; a hardware address is a flag."""
        return space.party(asked, LOCAL)

    def text(self, asked: Party) -> str:
        """`handsets or 10.61.0.7`."""
        return " or ".join(asked.words)

    def phrase(self, asked: Party) -> str:
        """Whose conversations."""
        return f" from {self.text(asked)}"


class Network(Field[Party]):
    """Hosts, by the network that they are in."""

    key, entry, example, turn = "network", Words, "waiting-room", 20

    def resolve(self, words: tuple[str, ...], here: Location, names: Names) -> Party:
        """The networks' hosts."""
        return names.in_networks(here, words)

    def condition(self, asked: Party, engine: Engine) -> Condition:
        """The local party is in one of the networks."""
        return LocalIs(asked.addresses, frozenset(), self.key)

    def boxes(self, asked: Party, space: Space) -> Iterable[Box]:
        """Their addresses."""
        return space.party(asked, LOCAL)

    def text(self, asked: Party) -> str:
        """`waiting-room or office`."""
        return " or ".join(asked.words)

    def phrase(self, asked: Party) -> str:
        """Where the conversations are."""
        return f" in {self.text(asked)}"


LOCAL_FIELD, NETWORK_FIELD = Local(), Network()


class Remote(Field[Party]):
    """Addresses, groups, and names that are known of the far side."""

    key, entry, example, turn = "remote", Words, "203.0.113.0/24", 30

    def resolve(self, words: tuple[str, ...], here: Location, names: Names) -> Party:
        """Whom they mean."""
        return names.party(here, words, remote=True)

    def condition(self, asked: Party, engine: Engine) -> Condition:
        """The remote is in this set, by address or name."""
        names = asked.members.names
        return RemoteIs(asked.addresses, NameSet(names) if names else None)

    def boxes(self, asked: Party, space: Space) -> Iterable[Box]:
        """Their addresses; a name is a flag."""
        return space.party(asked, REMOTE)

    def text(self, asked: Party) -> str:
        """`203.0.113.0/24 or *.films.example`."""
        return " or ".join(asked.words)

    def phrase(self, asked: Party) -> str:
        """With whom."""
        return f" with {self.text(asked)}"


REMOTE_FIELD = Remote()


def _version(value: object) -> int:
    if value not in (4, 6) or isinstance(value, bool):
        raise ValueError(f"{quoted(value)} is not an IP version: use 4 or 6")
    return 4 if value == 4 else 6


class Version(Field[int]):
    """4 or 6."""

    key, entry, example, turn = "version", Annotated[int, BeforeValidator(_version)], "6", 90

    def condition(self, asked: int, engine: Engine) -> Condition:
        """Whether it uses this version."""
        return VersionIs(asked)

    def boxes(self, asked: int, space: Space) -> Iterable[Box]:
        """All remotes of this version."""
        return [{REMOTE: ((0, IPV6_BEGINS - 1),) if asked == 4 else ((IPV6_BEGINS, space.whole[REMOTE][0][1]),)}]

    def text(self, asked: int) -> str:
        """`6`."""
        return str(asked)

    def phrase(self, asked: int) -> str:
        """Over which."""
        return f" over IPv{asked}"


VERSION_FIELD = Version()

"""`local` and `network`: whose side of a conversation it is, by who they are and by where they are."""

from collections.abc import Iterable

from wily_sluice.engine.classify.condition import Condition, LocalIs
from wily_sluice.plan.asking import Party
from wily_sluice.plan.field import Engine, Field, Names, Space
from wily_sluice.plan.file.words import Words
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.reach.regions import LOCAL, Box


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

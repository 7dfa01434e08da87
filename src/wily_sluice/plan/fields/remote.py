"""`remote`: who is on the far side."""

from collections.abc import Iterable

from wily_sluice.engine.classify.condition import Condition, RemoteIs
from wily_sluice.engine.classify.names import NameSet
from wily_sluice.plan.asking import Party
from wily_sluice.plan.field import Engine, Field, Names, Space
from wily_sluice.plan.file.words import Words
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.reach.regions import REMOTE, Box


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


FIELD = Remote()

"""`uplink`: the line that a conversation goes over."""

from collections.abc import Iterable

from wily_sluice.engine.classify.condition import AnyOf, Condition
from wily_sluice.plan.field import Engine, Field, Names, Space
from wily_sluice.plan.file.words import Words
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.reach.regions import UPLINK, Box, ranges


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


FIELD = Uplink()

"""`when`: while a schedule holds."""

from collections.abc import Iterable

from wily_sluice.engine.classify.condition import Condition, WhenIs
from wily_sluice.plan.field import Engine, Field, Names, Space
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.reach.regions import Box


class When(Field[str]):
    """A schedule's name."""

    key, entry, example, turn = "when", str, "opening-hours", 130

    def resolve(self, words: str, here: Location, names: Names) -> str:
        """It, if there is one of that name."""
        names.expect(here, "schedule", words)
        return words

    def condition(self, asked: str, engine: Engine) -> Condition:
        """Whether the schedule applies now."""
        return WhenIs(engine.clock, engine.schedule(asked))

    def boxes(self, asked: str, space: Space) -> Iterable[Box]:
        """While it holds."""
        return [space.when(asked)]

    def text(self, asked: str) -> str:
        """Its name."""
        return asked

    def phrase(self, asked: str) -> str:
        """During what."""
        return f" during {asked}"


FIELD = When()

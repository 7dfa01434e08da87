"""`moved`: how much a conversation has moved, both directions together."""

from collections.abc import Iterable
from typing import Annotated

from pydantic import BeforeValidator

from wily_sluice.engine.classify.condition import Condition, MovedIs
from wily_sluice.plan.field import Engine, Field, Needs, Space
from wily_sluice.plan.file.traffic_words import parse_moved
from wily_sluice.plan.reach.regions import MOVED, NO_END, Box
from wily_sluice.units import Size, exact_size

Moved = tuple[Size, bool]  # and whether it must be over


class MovedField(Field[Moved]):
    """A size, in bytes."""

    key, entry, example, turn = "moved", Annotated[Moved, BeforeValidator(parse_moved)], "over 20 MB", 110

    def condition(self, asked: Moved, engine: Engine) -> Condition:
        """Whether it has moved more than that, or not."""
        return MovedIs(*asked)

    def need(self, asked: Moved, needs: Needs) -> None:
        """A conversation that passes this size is sorted again."""
        needs.sizes.append(asked[0])

    def boxes(self, asked: Moved, space: Space) -> Iterable[Box]:
        """Above it, or up to it."""
        size, over = asked
        return [{MOVED: ((size + 1, NO_END),) if over else ((0, size),)}]

    def text(self, asked: Moved) -> str:
        """`over 20 MB`."""
        return f"{'over' if asked[1] else 'under'} {exact_size(asked[0])}"

    def phrase(self, asked: Moved) -> str:
        """That have moved so much."""
        return f" that have moved {'over' if asked[1] else 'no more than'} {exact_size(asked[0])}"


FIELD = MovedField()

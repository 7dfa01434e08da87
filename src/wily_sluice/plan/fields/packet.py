"""`packet`: kinds of single packets, which then use a different queue."""

from collections.abc import Iterable
from typing import Annotated, Any

from wily_sluice.engine.classify.condition import Condition, KindIs
from wily_sluice.plan.field import Engine, Field, Names, Needs, Space
from wily_sluice.plan.file.traffic_words import kinds_text, parse_kind
from wily_sluice.plan.file.words import flat
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.reach.regions import KIND, KINDS, Box, ranges


class Packet(Field[int]):
    """Kinds, as bits."""

    key, entry, example, turn = "packet", Annotated[tuple[int, ...], flat(parse_kind)], "acknowledgement", 1
    before = " packets of "

    def resolve(self, words: Any, here: Location, names: Names) -> int:
        """Their bits."""
        return sum(set(words))

    def condition(self, asked: int, engine: Engine) -> Condition:
        """The packet is of a kind in this set."""
        return KindIs(asked)

    def need(self, asked: int, needs: Needs) -> None:
        """Kinds must be distinguished."""
        needs.kinds |= asked

    def boxes(self, asked: int, space: Space) -> Iterable[Box]:
        """All that have one of the bits."""
        return [{KIND: ranges((kinds, kinds) for kinds in range(KINDS) if kinds & asked)}]

    def text(self, asked: int) -> str:
        """`handshake or acknowledgement`."""
        return kinds_text(asked)

    def phrase(self, asked: int) -> str:
        """Which."""
        return kinds_text(asked)


FIELD = Packet()

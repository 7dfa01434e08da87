"""`length`: of single packets, which then use a different queue."""

import re
from collections.abc import Iterable
from typing import Annotated, Final

from pydantic import BeforeValidator

from wily_sluice.engine.classify.condition import LONGEST_PACKET, Condition, LengthIs
from wily_sluice.plan.field import Engine, Field, Needs, Space
from wily_sluice.plan.model import Plan
from wily_sluice.plan.reach.regions import Box, Dimension, Ranges
from wily_sluice.units import Size, exact_size, parse_size, quoted

Length = tuple[Size, bool]  # and whether it must be over that
DIMENSION: Final = ("length", "")


def _length(text: object) -> Length:
    match = re.fullmatch(r"(up to|over) (.+)", str(text))
    if match is None:
        raise ValueError(f"{quoted(text)} is not a length of packets: write it like up to 128 B, or over 1000 B")
    size = parse_size(match[2])
    if not 20 <= size < LONGEST_PACKET:
        raise ValueError(f"{quoted(text)}: a packet of IP has 20 bytes at least, and {LONGEST_PACKET} at most")
    return size, match[1] == "over"


class LengthField(Field[Length]):
    """A size in bytes, with the headers of IP and all behind them."""

    key, entry, example, turn = "length", Annotated[Length, BeforeValidator(_length)], "up to 128 B", 95

    def condition(self, asked: Length, engine: Engine) -> Condition:
        """The packet is longer than that, or is not."""
        return LengthIs(*asked)

    def need(self, asked: Length, needs: Needs) -> None:
        """Packets up to this length must be distinguished."""
        needs.lengths.add(asked[0])

    def whole(self, plan: Plan) -> dict[Dimension, Ranges]:
        """All lengths that a packet can have."""
        return {DIMENSION: ((20, LONGEST_PACKET),)}

    def boxes(self, asked: Length, space: Space) -> Iterable[Box]:
        """Above it, or up to it."""
        size, over = asked
        return [{DIMENSION: ((size + 1, LONGEST_PACKET),) if over else ((20, size),)}]

    def text(self, asked: Length) -> str:
        """`up to 128 B`."""
        return f"{'over' if asked[1] else 'up to'} {exact_size(asked[0])}"

    def phrase(self, asked: Length) -> str:
        """In which packets."""
        return f" in packets of {self.text(asked)}"


FIELD = LengthField()

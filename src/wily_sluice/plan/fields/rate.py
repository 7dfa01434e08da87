"""`rate`: how fast a conversation has run for some time."""

from collections.abc import Iterable
from typing import Annotated

from pydantic import BeforeValidator

from wily_sluice.engine.classify.condition import Condition, FastIs
from wily_sluice.plan.field import Engine, Field, Needs, Space
from wily_sluice.plan.file.traffic_words import parse_fast
from wily_sluice.plan.reach.regions import Box
from wily_sluice.units import Nanoseconds, Rate, exact_rate, format_rate_both, format_time

Fast = tuple[Rate, Nanoseconds]  # and for how long


class RateField(Field[Fast]):
    """A rate in bit/s that lasts."""

    key, entry, example = "rate", Annotated[Fast, BeforeValidator(parse_fast)], "over 2 Mbit/s for 10 s"
    turn = 120

    def condition(self, asked: Fast, engine: Engine) -> Condition:
        """Whether it ran faster than that for so long."""
        return FastIs(engine.rates.index(asked))

    def need(self, asked: Fast, needs: Needs) -> None:
        """Rates must be observed."""
        needs.rates.append(asked)

    def boxes(self, asked: Fast, space: Space) -> Iterable[Box]:
        """A flag."""
        return [space.flag("rate", str(asked))]

    def text(self, asked: Fast) -> str:
        """`over 2 Mbit/s for 10 s`."""
        return f"over {exact_rate(asked[0])} for {format_time(asked[1])}"

    def phrase(self, asked: Fast) -> str:
        """That have run so fast."""
        return f" faster than {format_rate_both(asked[0])} for {format_time(asked[1])}"


FIELD = RateField()

"""`dscp`: the mark of the conversation's packets (RFC 2474)."""

from collections.abc import Iterable
from typing import Annotated

from wily_sluice.engine.classify.condition import Condition, DscpIs
from wily_sluice.plan.field import Engine, Field, Needs, Space
from wily_sluice.plan.file.traffic_words import dscp_text, parse_dscp
from wily_sluice.plan.file.words import flat
from wily_sluice.plan.reach.regions import DSCP, Box, ranges


class Dscp(Field[tuple[int, ...]]):
    """Code points."""

    key, entry, example, turn = "dscp", Annotated[tuple[int, ...], flat(parse_dscp)], "EF", 100

    def condition(self, asked: tuple[int, ...], engine: Engine) -> Condition:
        """The conversation has carried a DSCP of this set."""
        return DscpIs(sum(1 << dscp for dscp in set(asked)))

    def need(self, asked: tuple[int, ...], needs: Needs) -> None:
        """DSCPs must be remembered."""
        needs.dscps = True

    def boxes(self, asked: tuple[int, ...], space: Space) -> Iterable[Box]:
        """These."""
        return [{DSCP: ranges((dscp, dscp) for dscp in asked)}]

    def text(self, asked: tuple[int, ...]) -> str:
        """`EF or AF41`."""
        return dscp_text(asked)

    def phrase(self, asked: tuple[int, ...]) -> str:
        """Marked how."""
        return f" with a packet marked {dscp_text(asked)}"


FIELD = Dscp()

"""`protocol`: what IP carries."""

from collections.abc import Iterable
from typing import Annotated

from wily_sluice.engine.classify.condition import Condition, ProtocolIs
from wily_sluice.plan.field import Engine, Field, Space
from wily_sluice.plan.file.traffic_words import parse_protocol, protocol_text
from wily_sluice.plan.file.words import flat
from wily_sluice.plan.reach.regions import PROTOCOL, Box, ranges


class Protocol(Field[tuple[int, ...]]):
    """Protocol numbers of the IANA registry."""

    key, entry, example, turn = "protocol", Annotated[tuple[int, ...], flat(parse_protocol)], "udp", 2
    before = " "

    def condition(self, asked: tuple[int, ...], engine: Engine) -> Condition:
        """The protocol is in this set."""
        return ProtocolIs(frozenset(asked))

    def boxes(self, asked: tuple[int, ...], space: Space) -> Iterable[Box]:
        """These."""
        return [{PROTOCOL: ranges((number, number) for number in asked)}]

    def text(self, asked: tuple[int, ...]) -> str:
        """`TCP or UDP`."""
        return protocol_text(asked)

    def phrase(self, asked: tuple[int, ...]) -> str:
        """Which."""
        return protocol_text(asked)


FIELD = Protocol()

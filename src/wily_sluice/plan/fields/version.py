"""`version`: of IP."""

from collections.abc import Iterable
from typing import Annotated

from pydantic import BeforeValidator

from wily_sluice.engine.classify.condition import Condition, VersionIs
from wily_sluice.plan.field import Engine, Field, Space
from wily_sluice.plan.reach.regions import IPV6_BEGINS, REMOTE, Box
from wily_sluice.units import quoted


def _version(value: object) -> int:
    if value not in (4, 6) or isinstance(value, bool):
        raise ValueError(f"{quoted(value)} is not an IP version: use 4 or 6")
    return 4 if value == 4 else 6


class Version(Field[int]):
    """4 or 6."""

    key, entry, example, turn = "version", Annotated[int, BeforeValidator(_version)], "6", 90

    def condition(self, asked: int, engine: Engine) -> Condition:
        """Whether it uses this version."""
        return VersionIs(asked)

    def boxes(self, asked: int, space: Space) -> Iterable[Box]:
        """All remotes of this version."""
        return [{REMOTE: ((0, IPV6_BEGINS - 1),) if asked == 4 else ((IPV6_BEGINS, space.whole[REMOTE][0][1]),)}]

    def text(self, asked: int) -> str:
        """`6`."""
        return str(asked)

    def phrase(self, asked: int) -> str:
        """Over which."""
        return f" over IPv{asked}"


FIELD = Version()

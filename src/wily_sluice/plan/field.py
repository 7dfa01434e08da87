"""A field of a rule, and the interfaces it works with."""

from collections.abc import Iterable
from typing import Any, ClassVar, Generic, Literal, Protocol, TypeVar

from wily_sluice.engine.classify.condition import Clock, Condition
from wily_sluice.engine.classify.service import Service as Signs
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Plan
from wily_sluice.plan.reach.regions import Box, Dimension, Ranges
from wily_sluice.plan.terms import Party, PortWords, Service
from wily_sluice.units import Nanoseconds, Rate, Size

V = TypeVar("V")


class Names(Protocol):
    """The names in a plan. Each method reports unknown words."""

    def party(self, location: Location, words: tuple[str, ...], remote: bool = False) -> Party:
        """The party on one side."""

    def in_networks(self, location: Location, words: tuple[str, ...]) -> Party:
        """The hosts of some networks."""

    def ports(self, location: Location, words: tuple[str | int, ...]) -> PortWords:
        """Ports, and groups of ports."""

    def services_named(self, location: Location, words: tuple[str, ...]) -> tuple[Service, ...]:
        """The services that words mean."""

    def expect(self, location: Location, what: Literal["schedule", "uplink"], word: str) -> None:
        """That there is one of this name."""


class Engine(Protocol):
    """The engine's material for conditions on one uplink. A schedule and a rate are identified by an index."""

    uplink: str
    clock: Clock
    rates: tuple[tuple[Rate, Nanoseconds], ...]

    def schedule(self, name: str) -> int:
        """Its index among the plan's."""

    def signs(self, service: str) -> Signs:
        """The signs of a service, as the engine reads them."""


class Space(Protocol):
    """All that can be asked of, in dimensions."""

    whole: dict[Dimension, Ranges]
    uplinks: tuple[str, ...]

    def party(self, party: Party, dimension: Dimension) -> list[Box]:
        """Where a party is, by any of its signs."""

    def flag(self, what: str, which: str) -> Box:
        """A yes-or-no property about which nothing else is known."""

    def when(self, schedule: str) -> Box:
        """While a schedule holds."""


class Needs:
    """Observations that the engine must make for the rules."""

    def __init__(self) -> None:
        self.sizes: list[Size] = []
        self.rates: list[tuple[Rate, Nanoseconds]] = []
        self.kinds = 0
        self.lengths: set[Size] = set()
        self.dscps = False
        self.shapes = False


class Field(Generic[V]):
    """One field. `asked` is its value in a rule, as `resolve` returns it; a rule without the field has none.

    `key` is its word in the plan, `entry` its pydantic type, `example` a value. In a sentence, fields are ordered by
    `turn`, after `conversations`, or ahead of it if `before` has the joining word.
    """

    key: ClassVar[str]
    entry: ClassVar[Any]
    example: ClassVar[str]
    turn: ClassVar[int] = 100
    before: ClassVar[str | None] = None

    @property
    def attribute(self) -> str:
        """Its name in the entry that pydantic makes."""
        return self.key.replace("-", "_")

    def resolve(self, words: Any, here: Location, names: Names) -> V:
        """The meaning of the words that were read."""
        value: V = words
        return value

    def condition(self, asked: V, engine: Engine) -> Condition | None:
        """The engine's condition on a conversation; None if it always holds."""
        raise NotImplementedError

    def need(self, asked: V, needs: Needs) -> None:
        """Register the observations that it needs."""

    def whole(self, plan: Plan) -> dict[Dimension, Ranges]:
        """The dimensions that it adds to all that can be asked of."""
        return {}

    def boxes(self, asked: V, space: Space) -> Iterable[Box]:
        """The union of these regions."""
        raise NotImplementedError

    def text(self, asked: V) -> str:
        """The value, in the plan's words."""
        raise NotImplementedError

    def phrase(self, asked: V) -> str:
        """The same within a sentence."""
        raise NotImplementedError

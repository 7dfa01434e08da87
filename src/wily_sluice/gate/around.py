"""The interfaces around a gate: to the process that stores quotas, and to the one that receives events."""

from typing import NamedTuple, Protocol

from wily_sluice.gate.counters import CounterRow
from wily_sluice.units import Nanoseconds, Size


class Keeper(Protocol):
    """Stores the use of quotas."""

    def used(self, limiter: str, period: str) -> dict[bytes, Size]:
        """The stored use of a period for each account of a limiter. May block. LiveError if it is unknown now."""

    def keep(self, limiter: str, period: str, news: dict[bytes, Size]) -> dict[bytes, Size]:
        """Keep that so much more was used; does not wait, and gives back what cannot be taken now."""

    def tick(self) -> None:
        """Its turn; does not wait."""


class Watcher(Protocol):
    """Receives events and counters, between two turns. Its methods never block."""

    def fileno(self) -> int:
        """For select: readable when it wants a turn."""

    def turn(self) -> None:
        """Its turn."""

    def ready(self) -> None:
        """The gate shapes from now on."""

    def count(self, rows: list[CounterRow]) -> None:
        """Some of the counters since the last tick."""

    def tick(self, lasted: Nanoseconds) -> None:
        """The end of a tick. The gate's `state` and `visits` can be read too."""

    def told(self, interface: str, here: bool) -> None:
        """An interface of an uplink has gone, or is back."""

    def happened(self, event: str, level: str, **about: str | int | float | bool) -> None:
        """Something for the log."""


class GateState(NamedTuple):
    """See `control.messages.Health`."""

    unreadable: int
    bypassed: int
    crowd: int
    unrecognised: int
    late_turns: int
    refused: int
    shed: int
    longest_turn: Nanoseconds
    busy: float
    unseen: dict[str, int]
    crossed: dict[str, dict[str, tuple[Size, Size]]]
    down: list[str]
    carried: dict[str, int]
    found: dict[str, dict[str, int]]
    why: dict[str, str]

"""Worlds before and after the rig: one that records the tests, and one that has their results."""

from typing import Any

from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.proof import (
    NO_PORTS,
    Came,
    CannotTry,
    Flood,
    Led,
    Opened,
    Where,
)
from wily_sluice.units import MILLISECOND, Nanoseconds

SLACK: Nanoseconds = 2 * MILLISECOND  # what a packet may wait for this machine
Asked = Flood | Where | Led


class Listener:
    """A world that runs all tests in the lab and records them."""

    def __init__(self, lab: Bench) -> None:
        self.slack = lab.slack
        self.asked: dict[Asked, None] = {}
        self._lab = lab

    def flood(self, asked: Flood) -> tuple[Came, ...]:
        """In the lab."""
        self.asked[asked] = None
        return self._lab.flood(asked)

    def where(self, asked: Where) -> str:
        """In the lab."""
        self.asked[asked] = None
        return self._lab.where(asked)

    def lines(self, asked: Led) -> tuple[str, ...]:
        """In the lab."""
        self.asked[asked] = None
        return self._lab.lines(asked)

    def opened(self, asked: Opened) -> bool:
        """Not here. CannotTry."""
        raise CannotTry(NO_PORTS)


class Tried:
    """A world with results from an earlier run."""

    def __init__(self, answers: dict[Asked, Any]) -> None:
        self.slack = SLACK
        self._found = answers

    def _of(self, asked: Asked) -> Any:
        answer = self._found.get(asked, "")
        if isinstance(answer, CannotTry):
            raise answer
        return answer

    def flood(self, asked: Flood) -> tuple[Came, ...]:
        """What came."""
        came: tuple[Came, ...] = self._of(asked)
        return came

    def where(self, asked: Where) -> str:
        """Where it went."""
        return str(self._of(asked))

    def lines(self, asked: Led) -> tuple[str, ...]:
        """The lines they took."""
        lines: tuple[str, ...] = self._of(asked)
        return lines

    def opened(self, asked: Opened) -> bool:
        """Not here. CannotTry."""
        raise CannotTry(NO_PORTS)

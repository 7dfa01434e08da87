"""Worlds before and after the rig: one that notes what promises ask for, and one that has what became of it."""

from typing import Any

from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.setting import Came, CannotTry, Flood, Led, Where
from wily_sluice.units import MILLISECOND, Nanoseconds

SLACK: Nanoseconds = 2 * MILLISECOND  # what a packet may wait for this machine
Asked = Flood | Where | Led


class Listener:
    """A world that tries everything in the lab and notes what was asked for."""

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


class Tried:
    """A world in which all was tried before."""

    def __init__(self, found: dict[Asked, Any]) -> None:
        self.slack = SLACK
        self._found = found

    def _of(self, asked: Asked) -> Any:
        found = self._found.get(asked, "")
        if isinstance(found, CannotTry):
            raise found
        return found

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

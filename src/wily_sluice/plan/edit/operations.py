"""Operations on places of the file, and their effect on the plain data."""

from dataclasses import dataclass
from typing import Any, TypeAlias

from wily_sluice.plan.file.yaml_text import Location


class EditError(ValueError):
    """The edit cannot be made; says why, and what would be right."""


class UnknownNameError(EditError):
    """The plan has nothing of that name."""


@dataclass(frozen=True, slots=True)
class Set:
    """Set a key or a list item to a value; missing parents of a key are created."""

    location: Location
    value: Any

    def on(self, data: Any) -> None:
        """Do so in plain data."""
        here = data
        for part, after in zip(self.location[:-1], self.location[1:], strict=True):
            if isinstance(here, dict) and here.get(part) is None:
                here[part] = [] if isinstance(after, int) else {}
            here = here[part]
        here[self.location[-1]] = self.value


@dataclass(frozen=True, slots=True)
class Remove:
    """Take out a key with its value, or an item of a list."""

    location: Location

    def on(self, data: Any) -> None:
        """Do so in plain data."""
        del at(data, self.location[:-1])[self.location[-1]]


@dataclass(frozen=True, slots=True)
class Insert:
    """Put an item into a list before the one with this index; behind the last where there is none."""

    location: Location
    index: int
    value: Any

    def on(self, data: Any) -> None:
        """Do so in plain data."""
        if at(data, self.location) is None:
            Set(self.location, []).on(data)
        at(data, self.location).insert(self.index, self.value)


@dataclass(frozen=True, slots=True)
class Move:
    """Move an item of a list so that it then has the index `to`."""

    location: Location
    index: int
    to: int

    def on(self, data: Any) -> None:
        """Do so in plain data."""
        items = at(data, self.location)
        items.insert(self.to, items.pop(self.index))


@dataclass(frozen=True, slots=True)
class Rename:
    """Give a key another name, in its place."""

    location: Location
    name: str

    def on(self, data: Any) -> None:
        """Do so in plain data."""
        owner = at(data, self.location[:-1])
        pairs = [(self.name if key == self.location[-1] else key, value) for key, value in owner.items()]
        owner.clear()
        owner.update(pairs)


Operation: TypeAlias = Set | Remove | Insert | Move | Rename


def at(data: Any, location: Location) -> Any:
    """What stands at a place of plain data; None where there is nothing."""
    for part in location:
        try:
            data = data[part]
        except (KeyError, IndexError, TypeError):
            return None
    return data

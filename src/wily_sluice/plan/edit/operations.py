"""Operations on places of a plan file, and their effect on its plain data."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, TypeAlias

from wily_sluice.plan.edit.references import Reference
from wily_sluice.plan.file.words import suggestion
from wily_sluice.plan.file.yaml_text import Location


def location_of(tree: str, path: str) -> Location:
    """Where a queue stands, or would stand."""
    return ("trees", tree, *(part for name in path.split("/") for part in ("queues", name)))


def paths_of(data: dict[str, Any], tree: str) -> list[str]:
    """All queues of a tree, parents before children."""

    def below(entries: Any, above: str) -> Iterator[str]:
        for name, entry in entries.items() if isinstance(entries, dict) else ():
            path = f"{above}/{name}" if above else name
            yield path
            if isinstance(entry, dict):
                yield from below(entry.get("queues"), path)

    entry = (data.get("trees") or {}).get(tree)
    return list(below(entry.get("queues") if isinstance(entry, dict) else None, ""))


def trees_with(data: dict[str, Any], path: str, tree: str | None) -> list[str]:
    """The trees that have a queue of this path: the one that is wanted, or all. EditError when none has."""
    trees = list(data.get("trees") or {})
    if tree is not None and tree not in trees:
        raise UnknownNameError(f"there is no tree “{tree}”: {suggestion(tree, trees)}")
    trees_with_path = [name for name in trees if name == (tree or name) and path in paths_of(data, name)]
    if not trees_with_path:
        known = [path for name in trees if name == (tree or name) for path in paths_of(data, name)]
        raise UnknownNameError(f"there is no queue “{path}”: {suggestion(path, list(dict.fromkeys(known)))}")
    return trees_with_path


def meant(data: dict[str, Any], tree: str, word: str) -> str | None:
    """The path of the queue that a word means in a tree: a path, or a name that one queue alone has."""
    paths = paths_of(data, tree)
    if word in paths:
        return word
    named = [path for path in paths if path.rpartition("/")[2] == word]
    return named[0] if len(named) == 1 else None


def said_of(data: dict[str, Any], reference: Reference, path: str, trees: list[str]) -> dict[str, str]:
    """The path that a rule's word refers to at or below a path, in each of these trees that has it."""
    meanings = {}
    for tree in trees if not reference.tree else [reference.tree] if reference.tree in trees else []:
        queue = meant(data, tree, reference.word)
        if queue is not None and (queue == path or queue.startswith(f"{path}/")):
            meanings[tree] = queue
    return meanings


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

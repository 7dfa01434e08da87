"""Queues in a plan's plain data: the place of a path, and rules that use it."""

from collections.abc import Iterator
from typing import Any

from wily_sluice.plan.edit.operations import UnknownNameError
from wily_sluice.plan.edit.references import Reference
from wily_sluice.plan.file.suggestion import suggestion
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
    found = [name for name in trees if name == (tree or name) and path in paths_of(data, name)]
    if not found:
        known = [one for name in trees if name == (tree or name) for one in paths_of(data, name)]
        raise UnknownNameError(f"there is no queue “{path}”: {suggestion(path, list(dict.fromkeys(known)))}")
    return found


def meant(data: dict[str, Any], tree: str, word: str) -> str | None:
    """The path of the queue that a word means in a tree: a path, or a name that one queue alone has."""
    paths = paths_of(data, tree)
    if word in paths:
        return word
    named = [path for path in paths if path.rpartition("/")[2] == word]
    return named[0] if len(named) == 1 else None


def said_of(data: dict[str, Any], reference: Reference, path: str, trees: list[str]) -> dict[str, str]:
    """The path that a rule's word refers to at or below a path, in each of these trees that has it."""
    found = {}
    for tree in trees if not reference.tree else [reference.tree] if reference.tree in trees else []:
        queue = meant(data, tree, reference.word)
        if queue is not None and (queue == path or queue.startswith(f"{path}/")):
            found[tree] = queue
    return found

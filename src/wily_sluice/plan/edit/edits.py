"""Edits of a plan's parts."""

from collections.abc import Callable
from typing import Any

from wily_sluice.plan.edit.operations import (
    EditError,
    Insert,
    Move,
    Operation,
    Remove,
    Rename,
    Set,
    UnknownNameError,
    at,
    location_of,
    meant,
    paths_of,
    said_of,
    trees_with,
)
from wily_sluice.plan.edit.references import IN_ORDER, LIST_KEY, NAMED_IN, SECTIONS, Reference, references, some
from wily_sluice.plan.file.document import key_text
from wily_sluice.plan.file.words import suggestion
from wily_sluice.plan.file.yaml_text import Location

LEAF_KEYS = ("default", "aqm", "fair-by", "ecn", "limit", "delay")  # that a queue with children cannot have
TOP_KEYS = {"name": "site"}  # keys of `sluice edit site` that are called otherwise in the file
MOST_NAMED = 8  # references in a message


def _renamed(reference: Reference, new: str) -> Operation:
    if reference.as_key:
        return Rename(reference.location, new)
    return Set(reference.location, f"{reference.before}{new}")


class Edits:
    """The edits of one plan; `data` is its plain data. All methods raise EditError if the edit is not possible."""

    def __init__(self, data: dict[str, Any]) -> None:
        self._data = data

    def add(self, kind: str, name: str, changes: dict[str, Any], tree: str | None = None) -> list[Operation]:
        """A new part, at the end of its section."""
        if kind in IN_ORDER:
            return self.insert(kind, name, changes)
        value = self._value(kind, {key: item for key, item in changes.items() if item is not None})
        if kind == "queue":
            return [Set(self._new_queue(name, tree), value)]
        location = self._new(kind, name)
        return [Set(location, value)]

    def insert(
        self, kind: str, name: str, changes: dict[str, Any], where: tuple[str, str] | None = None
    ) -> list[Operation]:
        """A new part of a list, such as a rule, at its place or at the end."""
        listed = self._listed(kind)
        if any(isinstance(part, dict) and part.get("name") == name for part in listed):
            raise EditError(f"there is {some(kind)} “{name}” already")
        value = {"name": name, **{key: item for key, item in changes.items() if item is not None}}
        return [Insert((SECTIONS[kind],), self._place(kind, where) if where else len(listed), value)]

    def set(self, kind: str, name: str, changes: dict[str, Any], tree: str | None = None) -> list[Operation]:
        """Other values of a part; None takes a key out."""
        done: list[Operation] = []
        for location in self._found(kind, name, tree):
            done += self._change(kind, location, changes)
        return done

    def join(self, kind: str, name: str, words: list[str]) -> list[Operation]:
        """More members of a part that is a list, such as a group."""
        location, members = self._members(kind, name)
        if there := [word for word in words if word in members]:
            raise EditError(f"{kind} “{name}” has “{there[0]}” already")
        if not isinstance(at(self._data, location), list):
            return [Set(location, [*members, *words])]
        return [Insert(location, len(members) + number, word) for number, word in enumerate(words)]

    def leave(self, kind: str, name: str, words: list[str]) -> list[Operation]:
        """Fewer members of a part that is a list."""
        location, members = self._members(kind, name)
        for word in words:
            if word not in members:
                hint = suggestion(word, members)
                raise UnknownNameError(f"{kind} “{name}” has no “{word}”{f': {hint}' if hint else ''}")
        if set(members) <= set(words):
            raise EditError(f"{kind} “{name}” would be empty: `sluice edit {kind} remove {name}` removes it")
        return [Remove((*location, members.index(word))) for word in sorted(words, key=members.index, reverse=True)]

    def _members(self, kind: str, name: str) -> tuple[Location, list[str]]:
        """Where the list of a part is, and its members as words."""
        (location,) = self._found(kind, name)
        entry = at(self._data, location)
        if isinstance(entry, dict):
            location = (*location, LIST_KEY[kind])
            entry = entry.get(LIST_KEY[kind], [])
        return location, [str(word) for word in entry] if isinstance(entry, list) else [str(entry)]

    def split(self, name: str, into: list[str], tree: str | None = None) -> list[Operation]:
        """Children of a leaf; the first takes over its rules, and whatever only a leaf has."""
        if len(into) < 2 or len(set(into)) < len(into):
            raise EditError("name two or more children, each once, such as `queue split work files vpn`")
        done: list[Operation] = []
        for place in trees_with(self._data, name, tree):
            if f"{name}/" in "".join(f"{path}\n" for path in paths_of(self._data, place)):
                raise EditError(
                    f"queue “{name}” has children already: `sluice edit queue add {name}/{into[0]}` adds one"
                )
            location = location_of(place, name)
            entry = at(self._data, location)
            entry = entry if isinstance(entry, dict) else {}
            moved = {key: value for key, value in entry.items() if key in LEAF_KEYS}
            kept = {key: value for key, value in entry.items() if key not in LEAF_KEYS}
            for reference in references(self._data):
                if reference.named == "queue" and said_of(self._data, reference, name, [place]).get(place) == name:
                    done.append(Set(reference.location, f"{name}/{into[0]}"))
            children = {child: (moved if child == into[0] else {}) for child in into}
            done.append(Set(location, {**kept, "queues": children}))
        return done

    def whole(self, section: str, changes: dict[str, Any]) -> list[Operation]:
        """Keys of a section that is not made of named parts: `gate`, `nat`; or of the plan itself, for `site`."""
        done: list[Operation] = []
        for key, value in changes.items():
            location: Location = (TOP_KEYS.get(key, key),) if section == "site" else (section, key)
            if value is not None:
                done.append(Set(location, value))
            elif at(self._data, location[:-1]) and location[-1] in at(self._data, location[:-1]):
                done.append(Remove(location))
            else:
                raise EditError(f"{section} has no “{key}”")
        return done

    def remove(self, kind: str, name: str, tree: str | None = None) -> list[Operation]:
        """Take a part out, which nothing may name any more."""
        places = self._found(kind, name, tree)
        if kind == "queue":
            trees = [str(location[1]) for location in places]
            to_queues = [reference for reference in references(self._data) if reference.named == "queue"]
            naming = [reference for reference in to_queues if said_of(self._data, reference, name, trees)]
        else:
            naming = [
                reference
                for reference in references(self._data)
                if reference.named in NAMED_IN.get(kind, ()) and reference.word == name
            ]
        if naming:
            listed = ", ".join(self._said(reference.location) for reference in naming[:MOST_NAMED])
            more = f" and {len(naming) - MOST_NAMED} more" if len(naming) > MOST_NAMED else ""
            raise EditError(f"{kind} “{name}” is still needed by {listed}{more}: change these first")
        return [Remove(location) for location in reversed(places)]

    def rename(self, kind: str, name: str, new: str, tree: str | None = None) -> list[Operation]:
        """Another name for a part, wherever it is named."""
        if kind in IN_ORDER:
            (location,) = self._found(kind, name)
            return [Set((*location, "name"), new)]
        if kind == "queue":
            return self._rename_queue(name, new, tree)
        (location,) = self._found(kind, name)
        self._new(kind, new)
        follow: list[Operation] = []
        for reference in references(self._data):
            if reference.named in NAMED_IN.get(kind, ()) and reference.word == name:
                follow.append(_renamed(reference, new))
        return [*follow, Rename(location, new)]

    def copy(self, kind: str, name: str, new: str, changes: dict[str, Any], tree: str | None = None) -> list[Operation]:
        """Copy a part with other values; in a list, right below the original."""
        places = self._found(kind, name, tree)
        if len(places) > 1:
            raise EditError(f"{kind} “{name}” is in several trees: say which, with --tree")
        value = at(self._data, places[0])
        whole = value if isinstance(value, dict) else {LIST_KEY.get(kind, "value"): value}
        whole = {key: item for key, item in {**whole, **changes}.items() if item is not None}
        if kind in IN_ORDER:
            return self.insert(kind, new, {**whole, "name": None}, ("after", name))
        if kind == "queue":
            whole.pop("default", None)
            return [Set(self._new_queue(new, str(places[0][1])), whole)]
        return [Set(self._new(kind, new), self._value(kind, whole))]

    def switch(self, kind: str, name: str, on: bool) -> list[Operation]:
        """Switch a limiter, or a part of a list, on or off."""
        (location,) = self._found(kind, name)
        entry = at(self._data, location)
        if bool(entry.get("enabled", True)) == on:
            raise EditError(f"{kind} “{name}” is {'on' if on else 'off'} already")
        return [Remove((*location, "enabled")) if on else Set((*location, "enabled"), False)]

    def move(self, kind: str, name: str, where: tuple[str, str]) -> list[Operation]:
        """Move a part of a list `before` or `after` another, or `to` a number."""
        index = int(self._found(kind, name)[0][1])
        to = self._place(kind, where)
        if where[0] != "to" and to > index:
            to -= 1  # it leaves its own place
        to = min(to, len(self._listed(kind)) - 1)
        if to == index:
            raise EditError(f"{kind} “{name}” is there already")
        return [Move((SECTIONS[kind],), index, to)]

    # Finding.

    def names(self, kind: str) -> list[str]:
        """Of all parts of a kind."""
        if kind in IN_ORDER:
            named = enumerate(self._listed(kind), 1)
            return [str(part.get("name", n)) if isinstance(part, dict) else str(n) for n, part in named]
        if kind == "queue":
            paths = [path for tree in self._data.get("trees") or {} for path in paths_of(self._data, tree)]
            return list(dict.fromkeys(paths))
        section = self._data.get(SECTIONS[kind])
        return list(section) if isinstance(section, dict) else []

    def _listed(self, kind: str) -> list[Any]:
        parts = self._data.get(SECTIONS[kind])
        return parts if isinstance(parts, list) else []

    def _found(self, kind: str, name: str, tree: str | None = None) -> list[Location]:
        """Where a part is; a queue, in each tree that has it."""
        if kind == "queue":
            return [location_of(tree, name) for tree in trees_with(self._data, name, tree)]
        if kind in IN_ORDER:
            names = self.names(kind)
            indices = [index for index, each in enumerate(names) if each == name]
            if not indices and name.isascii() and name.isdigit() and 0 < int(name) <= len(names):
                indices = [int(name) - 1]
            if len(indices) > 1:
                numbers = " and ".join(str(index + 1) for index in indices)
                raise EditError(f"several {SECTIONS[kind]} are called “{name}”: give the number, {numbers}")
            if indices:
                return [(SECTIONS[kind], indices[0])]
        elif name in self.names(kind):
            return [(SECTIONS[kind], name)]
        raise UnknownNameError(f"there is no {kind} “{name}”: {suggestion(name, self.names(kind)) or 'there are none'}")

    def _new(self, kind: str, name: str) -> Location:
        """Where a part of this name will be; EditError if there is one."""
        if name in self.names(kind):
            raise EditError(f"there is {some(kind)} “{name}” already")
        return (SECTIONS[kind], name)

    def _new_queue(self, path: str, tree: str | None) -> Location:
        trees = list(self._data.get("trees") or {})
        if tree is None and len(trees) > 1:
            raise EditError(f"name the tree with --tree: {', '.join(trees)}")
        chosen = tree if tree is not None else trees[0] if trees else "main"
        if trees and chosen not in trees:
            raise UnknownNameError(f"there is no tree “{chosen}”: {suggestion(chosen, trees)}")
        parent = path.rpartition("/")[0]
        if parent:
            trees_with(self._data, parent, chosen)
        if path in paths_of(self._data, chosen):
            raise EditError(f"there is a queue “{path}” already")
        return location_of(chosen, path)

    def _place(self, kind: str, where: tuple[str, str]) -> int:
        word, what = where
        if word == "to":
            if not (what.isascii() and what.isdigit() and int(what) > 0):
                raise EditError(f"“{what}” is not the number of {some(kind)}: they count from 1")
            return int(what) - 1
        return int(self._found(kind, what)[0][1]) + (word == "after")

    def _said(self, location: Location) -> str:
        """`rule Handsets`, or the place as messages have it."""
        for kind in IN_ORDER:
            if location[0] == SECTIONS[kind]:
                return f"{kind} {self.names(kind)[int(location[1])]}"
        return key_text(location[:2])

    # Changing.

    def _value(self, kind: str, whole: dict[str, Any]) -> Any:
        """A list alone where a section has lists, else a mapping."""
        key = LIST_KEY.get(kind)
        return whole[key] if key is not None and list(whole) == [key] else whole

    def _change(self, kind: str, location: Location, changes: dict[str, Any]) -> list[Operation]:
        entry = at(self._data, location)
        if not isinstance(entry, dict):
            key = LIST_KEY.get(kind)
            if key is None:
                raise EditError(f"{key_text(location)} has no keys")
            whole = {key: entry, **changes}
            return [Set(location, self._value(kind, {k: v for k, v in whole.items() if v is not None}))]
        done: list[Operation] = []
        for key, value in changes.items():
            if value is not None:
                done.append(Set((*location, key), value))
            elif key in entry:
                done.append(Remove((*location, key)))
            else:
                raise EditError(f"{key_text(location)} has no “{key}”: {suggestion(key, list(entry))}")
        return done

    def _rename_queue(self, path: str, new: str, tree: str | None) -> list[Operation]:
        trees = trees_with(self._data, path, tree)
        if "/" in new:
            raise EditError("give the new name alone: a queue stays below its parent")
        above = path.rpartition("/")[0]
        target = f"{above}/{new}" if above else new
        for each in trees:
            if target in paths_of(self._data, each):
                raise EditError(f"there is a queue “{target}” in {each} already")
        follow: list[Operation] = []
        for reference in references(self._data):
            if reference.named == "queue" and (meaning := said_of(self._data, reference, path, trees)):
                follow.append(self._follow(reference, meaning, lambda queue: target + queue[len(path) :]))
        return [*follow, *(Rename(location_of(tree, path), new) for tree in trees)]

    def _follow(self, reference: Reference, meaning: dict[str, str], changed: Callable[[str], str]) -> Operation:
        """A rule's word for a queue, after a rename of that queue or of one above it in some trees."""

        def word(tree: str, queue: str) -> str:
            target = changed(queue)
            if reference.word == queue:
                return target
            name, last = reference.word, queue.rpartition("/")[2]
            name = target.rpartition("/")[2] if name == last else name
            others = [path for path in paths_of(self._data, tree) if path != queue and path.rpartition("/")[2] == name]
            return target if others else name

        words = {tree: word(tree, queue) for tree, queue in meaning.items()}
        if reference.tree:
            return Set(reference.location, words[reference.tree])
        everywhere = {
            tree: words.get(tree, reference.word)
            for tree in self._data.get("trees") or {}
            if tree in words or meant(self._data, tree, reference.word) is not None
        }
        same = set(everywhere.values())
        return Set(reference.location, same.pop() if len(same) == 1 else everywhere)

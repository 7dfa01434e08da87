"""The kinds of parts in a plan, their places in the file, and the references between them.

A rename must follow references, and a removal would break them.
"""

from collections.abc import Iterator
from typing import Any, Literal, NamedTuple, TypeAlias

from wily_sluice.plan.file.yaml_text import Location

SECTIONS = {
    "uplink": "uplinks",
    "network": "networks",
    "host": "hosts",
    "group": "groups",
    "schedule": "schedules",
    "queue": "trees",
    "limiter": "limiters",
    "rule": "rules",
    "service": "services",
    "tunnel": "tunnels",
    "route": "routes",
    "mapping": "mappings",
}
IN_ORDER = ("rule", "route", "mapping")  # lists: the first that matches decides
LIST_KEY = {"host": "addresses", "group": "members", "schedule": "windows"}  # what a list alone stands for


def some(kind: str) -> str:
    """The kind with its article."""
    return f"{'an' if kind[0] in 'aeiou' else 'a'} {kind}"


Named: TypeAlias = Literal["party", "network", "port", "schedule", "service", "uplink", "tree", "queue", "limiter"]

# By the kind of part, the places where its name may stand.
NAMED_IN: dict[str, frozenset[Named]] = {
    "uplink": frozenset({"uplink"}),
    "tunnel": frozenset({"uplink"}),
    "network": frozenset({"party", "network"}),
    "group": frozenset({"party", "port"}),
    "host": frozenset({"party", "port"}),
    "schedule": frozenset({"schedule"}),
    "service": frozenset({"service"}),
    "tree": frozenset({"tree"}),
    "limiter": frozenset({"limiter"}),
}
_KEYS: dict[str, Named] = {
    "local": "party",
    "remote": "party",
    "network": "network",
    "port": "port",
    "local-port": "port",
    "remote-port": "port",
    "uplink": "uplink",
    "when": "schedule",
    "service": "service",
}
_BLOCKS = ("any", "all", "not")


class Reference(NamedTuple):
    """A word that names a part. `tree` is the tree of a queue; with `as_key` the word is a key; `before` is the text in
    front of it, in the same value.
    """

    location: Location
    word: str
    named: Named
    tree: str = ""
    as_key: bool = False
    before: str = ""


def references(data: dict[str, Any]) -> Iterator[Reference]:
    """All of a plan."""
    for name, entry in _entries(data, "uplinks"):
        if isinstance(entry, dict):
            yield from _words(("uplinks", name, "refuses"), entry.get("refuses"), "queue")
        tree = entry.get("tree") if isinstance(entry, dict) else None
        if isinstance(tree, dict):
            for way in tree:
                yield from _words((*("uplinks", name, "tree"), way), tree[way], "tree")
        else:
            yield from _words(("uplinks", name, "tree"), tree, "tree")
    for name, entry in _entries(data, "groups"):
        here: Location = ("groups", name)
        if isinstance(entry, dict):
            for key, named in (("members", "party"), ("except", "party"), ("ports", "port")):
                yield from _words((*here, key), entry.get(key), named)  # type: ignore[arg-type]  # of the literal
        else:
            yield from _words(here, entry, "party")
    for name, entry in _entries(data, "services"):
        if isinstance(entry, dict):
            yield from _words(("services", name, "remote"), entry.get("remote"), "party")
    for name, entry in _entries(data, "limiters"):
        yield from _terms(("limiters", name), entry)
    for name, entry in _entries(data, "tunnels"):
        if isinstance(entry, dict):
            yield from _words(("tunnels", name, "uplink"), entry.get("uplink"), "uplink")
    nat = data.get("nat")
    if isinstance(nat, dict):
        yield from _words(("nat", "keep-ports"), nat.get("keep-ports"), "party")
    for section in ("routes", "mappings"):
        parts = data.get(section)
        for index, part in enumerate(parts if isinstance(parts, list) else ()):
            yield from _terms((section, index), part)
            if isinstance(part, dict):
                yield from _words((section, index, "else"), part.get("else"), "uplink")
                budget = str(part.get("while", "")).split()  # under 80% of NAME
                if len(budget) == 4 and budget[3] != "quota":
                    before = f"{' '.join(budget[:3])} "
                    yield Reference((section, index, "while"), budget[3], "limiter", before=before)
                shares = part.get("uplinks")
                for name in shares if isinstance(shares, dict) else ():
                    yield Reference((section, index, "uplinks", name), name, "uplink", as_key=True)
    rules = data.get("rules")
    for index, rule in enumerate(rules if isinstance(rules, list) else ()):
        yield from _terms(("rules", index), rule)
        queue = rule.get("queue") if isinstance(rule, dict) else None
        here = ("rules", index, "queue")
        if isinstance(queue, dict):
            for tree, word in queue.items():
                yield Reference((*here, tree), tree, "tree", as_key=True)
                yield from (word._replace(tree=tree) for word in _words((*here, tree), word, "queue"))
        else:
            yield from _words(here, queue, "queue")


def _entries(data: dict[str, Any], section: str) -> list[tuple[str, Any]]:
    entries = data.get(section)
    return list(entries.items()) if isinstance(entries, dict) else []


def _words(location: Location, value: Any, named: Named) -> Iterator[Reference]:
    """The words of a value: a single one or a list."""
    if isinstance(value, list):
        for index, word in enumerate(value):
            if isinstance(word, str):
                yield Reference((*location, index), word, named)
    elif isinstance(value, str):
        yield Reference(location, value, named)


def _terms(location: Location, entry: Any) -> Iterator[Reference]:
    if not isinstance(entry, dict):
        return
    for key, named in _KEYS.items():
        yield from _words((*location, key), entry.get(key), named)
    for key in _BLOCKS:
        blocks = entry.get(key)
        if isinstance(blocks, list):
            for index, block in enumerate(blocks):
                yield from _terms((*location, key, index), block)
        else:
            yield from _terms((*location, key), blocks)

"""YAML text as plain data (dict, list, str, int, float, bool, None) with line numbers.

Source: YAML 1.2.2, with the core schema (§10.3): dates, `yes` and `on` are words. Merge keys (`<<`), which 1.2 dropped,
still work. The library parses the text into nodes; this module decides their meaning.
"""

import re
from math import isfinite
from typing import Any, Final, TypeAlias

import yaml

Location: TypeAlias = tuple[str | int, ...]

MOST_VALUES: Final = 200_000  # after aliases are followed
DEEPEST: Final = 40
LOADER: Any = getattr(yaml, "CBaseLoader", yaml.BaseLoader)
_PREFIX = "tag:yaml.org,2002:"
_NULL = re.compile(r"(?:null|Null|NULL|~)?")
_TRUE, _FALSE = re.compile(r"true|True|TRUE"), re.compile(r"false|False|FALSE")
_INTEGER = re.compile(r"[-+]?[0-9]{1,300}|0o[0-7]{1,300}|0x[0-9a-fA-F]{1,300}")
_FLOAT = re.compile(r"[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]+)?")
# Line breaks for YAML 1.1, and so for the library, but not for 1.2 (§5.4) nor for an editor: it sees others instead.
_BREAKS = {0x85: 0xF085, 0x2028: 0xF028, 0x2029: 0xF029}
_HIDDEN: Final = str.maketrans({chr(key): chr(value) for key, value in _BREAKS.items()})
_SHOWN: Final = str.maketrans({chr(value): chr(key) for key, value in _BREAKS.items()})
SLIPS = 3  # lines in which a slip is looked for
_UNSPACED = re.compile(r"\s*(?:- )?[A-Za-z][\w-]*:[^\s:/](?!.*:)")  # with another colon it may be an address


class YamlError(ValueError):
    """The text cannot be read: why, and on which line (from 1), where that is known."""

    def __init__(self, message: str, line: int | None) -> None:
        super().__init__(message)
        self.line = line


def parse(text: str) -> tuple[Any, dict[Location, int]]:
    """The data, and the line on which each part begins. YamlError when that cannot be."""
    return values(compose(text))


def values(node: yaml.Node | None) -> tuple[Any, dict[Location, int]]:
    """The same, of a text that was read into nodes."""
    reader = _Reader()
    return (reader.value(node, ()) if node is not None else None), reader.lines


def compose(text: str) -> yaml.Node | None:
    """The nodes of a text; None where it is empty. YamlError when it cannot be read."""
    try:
        node: yaml.Node | None = yaml.compose(text.translate(_HIDDEN), Loader=LOADER)
    except yaml.reader.ReaderError as error:
        line = text.encode()[: error.position].count(b"\n") + 1
        raise YamlError("holds a character that YAML does not allow", line) from None
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        if mark is not None and (slip := _slip(text, mark.line)) is not None:
            raise YamlError(*slip) from None
        problem = " ".join(str(part).split("\n")[0] for part in (error.context, error.problem) if part)
        raise YamlError(f"is not YAML that can be read: {problem}", mark.line + 1 if mark else None) from None
    except RecursionError:
        raise YamlError("is nested too deeply to be read", None) from None
    return node


def _slip(text: str, last: int) -> tuple[str, int] | None:
    """A common slip on the line where parsing failed, or shortly before: a description, and its line from 1."""
    lines = text.split("\n")
    for number in range(min(last, len(lines) - 1), max(-1, last - SLIPS), -1):
        line = lines[number]
        if "\t" in line[: len(line) - len(line.lstrip())]:
            return "a tab is at the beginning of the line: indent with spaces", number + 1
        if _UNSPACED.match(line):
            return "a space is missing after the colon", number + 1
    return None


class _Reader:
    """One run through the nodes."""

    def __init__(self) -> None:
        self.lines: dict[Location, int] = {}
        self._left = MOST_VALUES

    def value(self, node: yaml.Node, here: Location) -> Any:
        line = node.start_mark.line + 1
        self._left -= 1
        if self._left < 0:
            raise YamlError("holds too many values", line)
        if len(here) > DEEPEST:
            raise YamlError(f"is nested deeper than {DEEPEST} levels", line)
        if isinstance(node, yaml.MappingNode):
            self._must_be(node, "map", line)
            return self._mapping(node, here)
        if isinstance(node, yaml.SequenceNode):
            self._must_be(node, "seq", line)
            items = []
            for index, item in enumerate(node.value):
                self.lines[(*here, index)] = item.start_mark.line + 1
                items.append(self.value(item, (*here, index)))
            return items
        assert isinstance(node, yaml.ScalarNode)
        return self._scalar(node, line)

    def _must_be(self, node: yaml.Node, kind: str, line: int) -> None:
        if node.tag not in (_PREFIX + kind, "!"):
            raise YamlError(f"this kind of YAML value ({node.tag.removeprefix(_PREFIX)}) has no use here", line)

    def _mapping(self, node: yaml.MappingNode, here: Location) -> dict[str, Any]:
        data: dict[str, Any] = {}
        merged: dict[str, Any] = {}
        for key_node, item in node.value:
            line = key_node.start_mark.line + 1
            if not isinstance(key_node, yaml.ScalarNode):
                raise YamlError("a key must be a word", line)
            key = str(key_node.value).translate(_SHOWN)
            if key == "<<" and not key_node.style:
                for part in item.value if isinstance(item, yaml.SequenceNode) else [item]:
                    if not isinstance(part, yaml.MappingNode):
                        raise YamlError("“<<” needs a set of keys, or a list of such sets", line)
                    merged = {**self.value(part, here), **merged}
                continue
            if key in data:
                raise YamlError(f"“{key}” stands here twice: each key once", line)
            index = (*here, key)
            self.lines[index] = line
            data[key] = self.value(item, index)
        return {**merged, **data} if merged else data

    def _scalar(self, node: yaml.ScalarNode, line: int) -> Any:
        text: str = node.value.translate(_SHOWN)
        kind = node.tag.removeprefix(_PREFIX)
        if kind == "str" and not node.style:
            return _plain(text)
        if kind in ("str", "!", "timestamp"):
            return text
        if kind in ("int", "float", "bool", "null"):
            return _plain(text)
        raise YamlError(f"this kind of YAML value ({kind}) has no use here", line)


def _plain(text: str) -> Any:
    """The value of a word without quotes."""
    if _NULL.fullmatch(text):
        return None
    if _TRUE.fullmatch(text) or _FALSE.fullmatch(text):
        return text[0] in "tT"
    if _INTEGER.fullmatch(text):
        return int(text, 0) if text[:2] in ("0o", "0x") else int(text)
    if _FLOAT.fullmatch(text) and isfinite(number := float(text)):
        return number
    return text  # and so `.inf` and `.nan`, which nothing here could mean

"""Carries out operations on the text of a YAML file, and proves that nothing else has changed.

Every operation becomes a replacement of a stretch of text, found by the positions that the library gives for nodes. A
block collection ends where its last value does; blank lines and comments after that stay. At the end the new text is
parsed, and must equal the plain data after the same operations. An edit is therefore correct or refused, even in text
with anchors or merge keys.
"""

import pickle
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import yaml

from wily_sluice.plan.edit.operations import EditError, Insert, Move, Operation, Remove, Rename, Set
from wily_sluice.plan.file.source import allowances
from wily_sluice.plan.file.yaml_text import Location, YamlError, compose, values

INDENT = 2  # columns by which a new block is indented


@dataclass(frozen=True, slots=True)
class Splice:
    """Characters from `begin` to `end` of a text that give way to others."""

    begin: int
    end: int
    text: str


class YamlText:
    """The text of a YAML file, read once. YamlError when it cannot be read."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.root = compose(text)
        data, self.lines = values(self.root)
        self.data: dict[str, Any] = data if isinstance(data, dict) else {}

    def after(self, operations: Sequence[Operation]) -> "YamlText":
        """The text after these operations, in their order. EditError when they cannot be made."""
        expected = pickle.loads(pickle.dumps(self.data))  # a copy: of plain data, far faster than `deepcopy`
        new, first = self.text, _Tree(self.text, self.root)
        for number, together in enumerate(_together(first, operations)):
            tree = _Tree(new, compose(new)) if number else first
            splices = sorted(
                (tree.splice(operation) for operation in together), key=lambda operation: operation.begin, reverse=True
            )
            for splice in splices:
                new = new[: splice.begin] + splice.text + new[splice.end :]
        if "\r\n" in self.text and not re.search(r"(?<!\r)\n", self.text):  # lines all end as on some systems
            new = re.sub(r"(?<!\r)\n", "\r\n", new)
        for operation in operations:
            operation.on(expected)
        try:
            yaml_text = YamlText(new)
            same = yaml_text.data == expected
        except YamlError:
            same = False
        if not same:
            raise EditError("this part of the file is written in a way that cannot be edited in place: edit it by hand")
        return yaml_text


def apply(text: str, operations: Sequence[Operation]) -> str:
    """The text after these operations, in their order. EditError when they cannot be made."""
    try:
        return YamlText(text).after(operations).text
    except YamlError as error:
        raise EditError(str(error)) from None


def _together(tree: "_Tree", operations: Sequence[Operation]) -> Iterator[list[Operation]]:
    """Operations that one parse of the text is enough for: all, if they only change separate single words, as a rename
    does; otherwise one at a time.
    """
    places = {operation.location for operation in operations}
    renamed = {operation.location for operation in operations if isinstance(operation, Rename)}
    within = any(
        operation.location[:length] in renamed for operation in operations for length in range(len(operation.location))
    )
    if len(places) == len(operations) and not within and all(map(tree.is_word, operations)):
        yield list(operations)
    else:
        yield from ([operation] for operation in operations)


def flow(value: Any, inside: bool = True) -> str:
    """A value in one line, quoted where YAML needs that; `inside` a flow collection more needs it."""
    if isinstance(value, dict):
        return "{" + ", ".join(f"{flow(key)}: {flow(item)}" for key, item in value.items()) + "}"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(flow(item) for item in value) + "]"
    if isinstance(value, bool) or value is None:
        return {True: "true", False: "false", None: "null"}[value]
    whole = yaml.safe_dump([value] if inside else value, default_flow_style=True, width=10**9, allow_unicode=True)
    whole = whole.removesuffix("...\n").rstrip("\n")
    return whole[1:-1] if inside else whole


class _Tree:
    """A text with its nodes."""

    def __init__(self, text: str, root: yaml.Node | None) -> None:
        self.text = text
        self.root = root
        self._starts = [0]
        for line in text.split("\n"):
            self._starts.append(self._starts[-1] + len(line) + 1)

    def is_word(self, operation: Operation) -> bool:
        """Whether it changes one word that is there."""
        node = self._node(operation.location)
        word = isinstance(node, yaml.ScalarNode) and bool(node.value) and isinstance(operation, Set)
        return word or (isinstance(operation, Rename) and node is not None)

    def splice(self, operation: Operation) -> Splice:
        """The replacement for an operation."""
        match operation:
            case Set():
                return self._set(operation)
            case Remove():
                return self._remove(operation.location)
            case Insert():
                return self._insert(operation)
            case Move():
                return self._move(operation)
            case Rename():
                key, _ = self._pair(operation.location)
                return Splice(self._begin(key), self._end(key), flow(operation.name))

    # Finding.

    def _begin(self, node: yaml.Node) -> int:
        return self._starts[node.start_mark.line] + int(node.start_mark.column)

    def _end(self, node: yaml.Node) -> int:
        """Behind the last character of a value."""
        flow_style = isinstance(node, yaml.CollectionNode) and node.flow_style
        if isinstance(node, yaml.CollectionNode) and not flow_style:
            last = node.value[-1] if node.value else None
            if last is None:
                return self._begin(node)
            if isinstance(last, tuple):
                return max(self._end(last[1]), self._after_colon(last[0]))
            return self._end(last)
        end = self._starts[node.end_mark.line] + int(node.end_mark.column)
        return end if flow_style or getattr(node, "style", None) in ("'", '"') else self._stripped(node, end)

    def _stripped(self, node: yaml.Node, end: int) -> int:
        """Without line ends and blanks behind, which a block scalar or an empty value may take in."""
        begin = self._begin(node)
        return begin + len(self.text[begin:end].rstrip())

    def _after_colon(self, key: yaml.Node) -> int:
        return self.text.index(":", self._end(key)) + 1

    def _node(self, location: Location) -> yaml.Node | None:
        """The node at a place; None where there is none."""
        here = self.root
        for part in location:
            if isinstance(here, yaml.MappingNode):
                here = next((value for key, value in reversed(here.value) if key.value == part), None)
            elif isinstance(here, yaml.SequenceNode) and isinstance(part, int) and part < len(here.value):
                here = here.value[part]
            else:
                return None
        return here

    def _mapping(self, location: Location) -> yaml.MappingNode:
        owner = self._node(location)
        if not isinstance(owner, yaml.MappingNode):
            raise EditError(f"{location[-1] if location else 'the file'} has no keys: edit it by hand")
        return owner

    def _pair(self, location: Location) -> tuple[yaml.Node, yaml.Node]:
        owner = self._node(location[:-1])
        for key, value in owner.value if isinstance(owner, yaml.MappingNode) else ():
            if key.value == location[-1]:
                return key, value
        raise EditError(f"there is no {location[-1]} in the file, other than by an anchor: edit it by hand")

    def _item(self, location: Location, index: int) -> tuple[yaml.SequenceNode, yaml.Node]:
        owner = self._node(location)
        if not isinstance(owner, yaml.SequenceNode) or not 0 <= index < len(owner.value):
            raise EditError(f"there is no such item in {location[-1]}")
        return owner, owner.value[index]

    def _line_of(self, position: int) -> tuple[int, int]:
        """Where the line around a position begins, and where the next one does."""
        begin = self.text.rfind("\n", 0, position) + 1
        end = self.text.find("\n", position)
        return begin, len(self.text) if end < 0 else end + 1

    # Replacing.

    def _set(self, operation: Set) -> Splice:
        node = self._node(operation.location)
        if node is None or (isinstance(node, yaml.ScalarNode) and node.value == "" and not node.style):
            return self._fill(operation.location, operation.value)
        begin, end, words = self._begin(node), self._end(node), flow(operation.value, self._in_flow(operation.location))
        behind = re.match(r" +(?=#)", self.text[end:])
        if behind and "\n" not in self.text[begin:end]:  # a comment keeps its column, where it can
            wanted = len(behind[0]) - len(words) + (end - begin)
            return Splice(begin, end + len(behind[0]), words + " " * max(2, wanted))
        return Splice(begin, end, words)

    def _in_flow(self, location: Location) -> bool:
        owners = (self._node(location[:length]) for length in range(len(location)))
        return any(isinstance(owner, yaml.CollectionNode) and bool(owner.flow_style) for owner in owners)

    def _fill(self, location: Location, value: Any) -> Splice:
        """Give a value to a key that has none, or that is not there; in an owner that may not be there either."""
        if self.root is None:
            return Splice(len(self.text), len(self.text), f"{location[0]}:{self._block(location[1:], value, 0)}\n")
        owner = self._node(location[:-1])
        if (isinstance(owner, yaml.ScalarNode) and owner.value == "" and len(location) > 1) or owner is None:
            rest: Any = {location[-1]: value} if isinstance(location[-1], str) else [value]
            return self._fill(location[:-1], rest)
        if not isinstance(owner, yaml.MappingNode):
            raise EditError(f"{location[-2] if len(location) > 1 else 'the file'} has no keys: edit it by hand")
        place = next((pair for pair in owner.value if pair[0].value == location[-1]), None)
        top = len(location) == 1
        if place is not None:
            behind = self._after_colon(place[0])
            if self._in_flow(location):
                return Splice(behind, behind, " " + flow(value))
            column = int(place[0].start_mark.column)
            return Splice(behind, behind, self._value(value, column, top))
        if owner.flow_style:
            words = f"{flow(location[-1])}: {flow(value)}"
            if owner.value:
                end = self._end(owner.value[-1][1])
                return Splice(end, end, f", {words}")
            begin = self._begin(owner) + 1
            return Splice(begin, begin, words)
        column = int(owner.value[0][0].start_mark.column)
        words = f"{' ' * column}{flow(location[-1], False)}:{self._value(value, column, top)}"
        return self._new_line(self._end(owner), f"\n{words}" if top else words)

    def _value(self, value: Any, column: int, block: bool) -> str:
        """A value behind its colon: a section of the plan as a block, anything else in one line."""
        if block and isinstance(value, dict) and value:
            lines = (f"\n{' ' * (column + INDENT)}{flow(k, False)}: {flow(v, False)}" for k, v in value.items())
            return "".join(lines)
        if block and isinstance(value, list) and value and isinstance(value[0], dict):
            return "".join(f"\n{' ' * (column + INDENT)}- {flow(item, False)}" for item in value)
        return f" {flow(value, False)}"

    def _block(self, rest: Location, value: Any, column: int) -> str:
        for part in reversed(rest):
            value = {part: value} if isinstance(part, str) else [value]
        return self._value(value, column, True)

    def _new_line(self, behind: int, words: str) -> Splice:
        """A separate line after the one that a value ends on."""
        _, end = self._line_of(behind)
        ended = self.text[end - 1 : end] == "\n"
        return Splice(end, end, f"{words}\n" if ended else f"\n{words}")

    def _insert(self, insert: Insert) -> Splice:
        owner = self._node(insert.location)
        if not isinstance(owner, yaml.SequenceNode) or not owner.value:
            if isinstance(owner, yaml.SequenceNode):
                return Splice(self._begin(owner), self._end(owner), flow([insert.value]))
            return self._fill(insert.location, [insert.value])
        if owner.flow_style:
            if insert.index < len(owner.value):
                begin = self._begin(owner.value[insert.index])
                return Splice(begin, begin, f"{flow(insert.value)}, ")
            end = self._end(owner.value[-1])
            return Splice(end, end, f", {flow(insert.value)}")
        column = self._dash(owner.value[0]) - self._line_of(self._dash(owner.value[0]))[0]
        words = f"{' ' * column}- {flow(insert.value, False)}"
        if insert.index < len(owner.value):
            begin, _ = self._stretch(owner.value, insert.index, comments=True)
            return Splice(begin, begin, f"{words}\n")
        return self._new_line(self._end(owner), words)

    def _dash(self, item: yaml.Node) -> int:
        """Where the dash of a block list's item is."""
        return self.text.rindex("-", 0, self._begin(item))

    def _stretch(self, items: Sequence[Any], index: int, comments: bool) -> tuple[int, int]:
        """The lines of an item of a block list, with the comments right above it if they are wanted."""
        begin, _ = self._line_of(self._dash(items[index]))
        _, end = self._line_of(self._end(items[index]))
        while comments and begin > 0:
            above, _ = self._line_of(begin - 1)
            if not self.text[above:begin].lstrip().startswith("#"):
                break
            begin = above
        return self._allowed_from(begin) if comments else begin, end

    def _move(self, move: Move) -> Splice:
        owner, _ = self._item(move.location, move.index)
        self._item(move.location, move.to)
        down = move.to > move.index
        if owner.flow_style:
            order = [self.text[self._begin(node) : self._end(node)] for node in owner.value]
            order.insert(move.to, order.pop(move.index))
            first, last = sorted((move.index, move.to))
            parts, behind = [], self._begin(owner.value[first])
            for node, words in zip(owner.value[first : last + 1], order[first : last + 1], strict=True):
                parts.append(self.text[behind : self._begin(node)] + words)
                behind = self._end(node)
            return Splice(self._begin(owner.value[first]), behind, "".join(parts))
        begin, end = self._stretch(owner.value, move.index, comments=True)
        words = self.text[begin:end]
        target = self._stretch(owner.value, move.to, comments=True)
        if down:
            between = self.text[end : target[1]]
            if not between.endswith("\n"):  # the last line of a file that does not end it
                between, words = f"{between}\n", words.removesuffix("\n")
            return Splice(begin, target[1], between + words)
        if not words.endswith("\n"):
            return Splice(target[0], end, f"{words}\n{self.text[target[0] : begin]}".removesuffix("\n"))
        return Splice(target[0], end, words + self.text[target[0] : begin])

    def _remove(self, location: Location) -> Splice:
        if isinstance(location[-1], int):
            owner: yaml.CollectionNode
            owner, item = self._item(location[:-1], location[-1])
            spans = [(self._begin(node), self._end(node)) for node in owner.value]
            index = location[-1]
        else:
            owner, key = self._mapping(location[:-1]), self._pair(location)[0]
            pairs = owner.value
            index = next(number for number, pair in enumerate(pairs) if pair[0] is key)
            item = key
            spans = [(self._begin(key), max(self._end(other), self._after_colon(key))) for key, other in pairs]
        if len(spans) == 1:
            return self._emptied(location[:-1], owner, spans[0])
        if owner.flow_style:
            if index + 1 < len(spans):
                return Splice(spans[index][0], spans[index + 1][0], "")
            return Splice(spans[index - 1][1], spans[index][1], "")
        begin, _ = self._line_of(self._dash(item) if isinstance(location[-1], int) else spans[index][0])
        _, end = self._line_of(spans[index][1])
        lead = self.text[begin : spans[index][0]].strip()
        if lead and not isinstance(location[-1], int):  # the first key of an item, behind its dash
            return Splice(spans[index][0], spans[index + 1][0], "")
        above = self._allowed_from(begin)  # what allows a finding here must not allow one of the next
        kept = [line for line in self.text[above:begin].split("\n") if not allowances(line)]
        return Splice(above, end, "\n".join(kept))

    def _allowed_from(self, begin: int) -> int:
        """Where the first comment begins that allows a finding of the line that begins there; itself if none does."""
        first = here = begin
        while here > 0:
            above, _ = self._line_of(here - 1)
            line = self.text[above:here].strip()
            if line and not line.startswith("#"):
                break
            first = above if allowances(line) else first
            here = above
        return first

    def _emptied(self, location: Location, owner: yaml.CollectionNode, span: tuple[int, int]) -> Splice:
        """Take the last part out of a collection, which is then written as an empty one."""
        empty = "[]" if isinstance(owner, yaml.SequenceNode) else "{}"
        if owner.flow_style:
            return Splice(self._begin(owner), self._end(owner), empty)
        if not location:
            return Splice(*span, "")
        first, _ = self._line_of(span[0])
        _, end = self._line_of(span[1])
        key, _ = self._pair(location) if isinstance(location[-1], str) else (None, None)
        if key is None:
            return Splice(*span, empty)
        behind = self._after_colon(key)
        between = self.text[behind:first]
        return Splice(behind, end, f" {empty}{between}" if between.endswith("\n") else f" {empty}\n")

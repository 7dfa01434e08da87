"""Reads a YAML 1.2 file into plain data that knows its lines, and holds it against a schema.

All errors are reported together: parts that the schema refuses are cut out and the rest is validated again, so that one
mistake does not hide the next. `Reading.cut` lists the parts cut out, so that a reference to one is not reported as a
second error.
"""

import re
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar, get_args, get_origin

from pydantic import BaseModel, ValidationError

from wily_sluice.plan.edit.operations import Operation
from wily_sluice.plan.file.source import Allowance, Missing, Source, allowances
from wily_sluice.plan.file.words import MOST_LISTED, suggestion
from wily_sluice.plan.file.yaml_text import Location, YamlError, parse
from wily_sluice.plan.findings.finding import FileError, Finding, Severity
from wily_sluice.units import Size, format_size, quoted

Schema = TypeVar("Schema", bound=BaseModel)

LARGEST: Size = 1_000_000  # bytes; some 20,000 lines, far beyond what a person writes
NAMED_LISTS = {"rules": "rule", "routes": "route", "mappings": "mapping"}


def key_text(location: Location) -> str:
    """`uplinks.fibre.up`, `rules[3].queue`; list places count from 1, as a person counts."""
    text = ""
    for part in location:
        text += f"[{part + 1}]" if isinstance(part, int) else f".{part}" if text else str(part)
    return text


@dataclass(slots=True)
class Document:
    """Plain data (dict, list, str, int, float, bool, None) and the line on which each part begins."""

    file: str
    data: dict[str, Any]
    lines: dict[Location, int] = field(default_factory=dict)
    raw: bytes = b""
    source: Source = field(default_factory=lambda: Missing(""))
    others: dict[str, Source] = field(default_factory=dict)  # files that it names
    allowances: list[Allowance] = field(default_factory=list)

    def beside(self, name: str) -> Source:
        """A file that this one names."""
        file = self.others[name] = self.source.beside(name)
        return file

    def line(self, location: Location) -> int | None:
        """The line of the place, or of the nearest place around it that is in the file."""
        while location and location not in self.lines:
            location = location[:-1]
        return self.lines.get(location)

    def finding(
        self,
        severity: Severity,
        location: Location,
        message: str,
        remedy: str = "",
        code: str = "",
        fix: tuple[Operation, ...] = (),
    ) -> Finding:
        """A finding at a place of this file."""
        key, name = key_text(location), self._name(location)
        return Finding(severity, self.file, self.line(location), key, message, remedy, code, fix, name)

    def _name(self, location: Location) -> str:
        """`rule Handsets, queue`: a place within an item of a list that has a name; empty for others."""
        if len(location) < 2 or location[0] not in NAMED_LISTS or not isinstance(location[1], int):
            return ""
        items = self.data.get(location[0]) if isinstance(self.data, dict) else None
        item = items[location[1]] if isinstance(items, list) and location[1] < len(items) else None
        name = item.get("name") if isinstance(item, dict) else None
        if not isinstance(name, str) or not name:
            return ""
        within = key_text(location[2:])
        return f"{NAMED_LISTS[location[0]]} {name}" + (f", {within}" if within else "")

    def error(self, location: Location, message: str, remedy: str = "", code: str = "does-not-fit") -> Finding:
        """An error at a place of this file."""
        return self.finding("error", location, message, remedy, code)

    def allows(self, code: str, location: Location) -> bool:
        """Whether a comment allows a finding at this place, which is then counted as used."""
        lines = {self.lines.get(location[:length]) for length in range(1, len(location) + 1)}
        allowances = [
            allowance for allowance in self.allowances if allowance.code == code and allowance.covers in lines
        ]
        for problem in allowances:
            problem.used = True
        return bool(allowances)


def read_document(source: Source, kind: str) -> Document:
    """Read a YAML file; `kind` describes it in errors, such as “plan”. FileError if it cannot be read."""

    def refuse(message: str, remedy: str = "", line: int | None = None) -> FileError:
        return FileError([Finding("error", source.name, line, "", message, remedy, "unreadable")])

    try:
        raw = source.read(LARGEST + 1)
    except FileNotFoundError:
        raise refuse(
            f"there is no such {kind} file", "name one: an argument, --plan or SLUICE_PLAN" * (kind == "plan")
        ) from None
    except OSError as error:
        raise refuse(f"cannot be read: {error.strerror}") from None
    if len(raw) > LARGEST:
        raise refuse(f"is larger than {format_size(LARGEST)}, the limit for a {kind}", "is this the right file?")
    if not raw.strip():
        starts = {
            "plan": "`sluice new` makes a plan",
            "traffic": "`sluice demo --save FOLDER` copies one to start from",
        }
        raise refuse("is empty", starts.get(kind, ""))
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        raise refuse("is not text in UTF-8", f"a {kind} is a YAML file", line) from None
    try:
        tree, lines = parse(text)
    except YamlError as error:
        remedy = "write each key once, close brackets and braces, and indent the keys of one level equally"
        raise refuse(str(error), remedy if "not YAML" in str(error) else "", error.line) from None
    if not isinstance(tree, dict):
        raise refuse(f"has no keys at its outermost level, so it is not a {kind}", "write `key: value` lines", 1)
    return Document(source.name, tree, lines, raw, source, allowances=allowances(text))


@dataclass(slots=True)
class Reading(Generic[Schema]):
    """A validated document: its usable content, the findings, and the parts cut out."""

    document: Document
    content: Schema | None
    findings: list[Finding]
    cut: set[Location]

    def was_cut(self, *location: str | int) -> bool:
        """Whether this place, or one around it, was refused and reported before."""
        return any(location[: len(cut)] == cut for cut in self.cut)


def hold_against(document: Document, schema: type[Schema]) -> Reading[Schema]:
    """Validate a document, cutting out the parts that are refused."""
    findings: list[Finding] = []
    cut: set[Location] = set()
    data = document.data
    for key in [key for key, value in data.items() if value is None]:
        del data[key]  # a key without a value counts as absent
    while True:
        try:
            return Reading(document, schema.model_validate(data), findings, cut)
        except ValidationError as error:
            problems = error.errors(include_url=False)
        for problem in problems:
            location = _as_written(data, problem["loc"])
            missing = problem["type"] == "missing"
            consequence = any(earlier[: len(location)] == location for earlier in cut)
            if not consequence:  # else it is missing, or too short, since a part of it was cut out
                findings.append(_finding(document, schema, location, problem))
            doomed = location[:-1] if missing else _whole(data, location)
            while doomed in cut:  # it was cut out and still gives an error, so its parent goes
                doomed = doomed[:-1]
            cut.add(doomed)
            if not doomed:
                return Reading(document, None, findings, cut)
            _cut_out(data, doomed)


def _as_written(data: Any, location: Location) -> Location:
    """The place in the file. A single value may replace a list of one, and a list may replace a set of keys with only
    one key; the place is then that value or list itself.
    """
    written: list[str | int] = []
    for part in location:
        if isinstance(data, list):
            if not isinstance(part, int):
                continue
            data = data[part]
        elif isinstance(data, dict):
            if isinstance(part, int):
                continue
            data = data.get(part)
        else:
            continue
        written.append(part)
    return tuple(written)


def _at(data: Any, location: Location) -> Any:
    for part in location:
        inside = part in data if isinstance(data, dict) else isinstance(data, list) and isinstance(part, int)
        if not inside or (isinstance(data, list) and isinstance(part, int) and part >= len(data)):
            return None
        data = data[part]
    return data


def _whole(data: Any, location: Location) -> Location:
    """The place itself, or the list that it is a plain value of: a list of values cannot have a hole."""
    in_list = isinstance(_at(data, location[:-1]), list)
    return location[:-1] if in_list and not isinstance(_at(data, location), dict) else location


def _cut_out(data: Any, location: Location) -> None:
    *way, last = location
    data = _at(data, tuple(way))
    if isinstance(data, dict):
        data.pop(last, None)
    elif isinstance(data, list) and isinstance(last, int):
        data[last] = None  # keeps the places of the others


def _finding(document: Document, schema: type[BaseModel], location: Location, problem: Any) -> Finding:
    kind, value = problem["type"], problem["input"]
    if kind == "extra_forbidden":
        owner = _model_at(schema, location[:-1])
        known = [info.alias or name for name, info in owner.model_fields.items()] if owner else []
        return document.error(
            location, f"there is no key “{location[-1]}”", suggestion(str(location[-1]), known), "unknown-key"
        )
    if kind == "missing":
        example = _example(schema, location)
        return document.error(
            location[:-1],
            f"“{location[-1]}” is missing",
            f"add {location[-1]}: {example}" if example else "",
            "missing-key",
        )
    if kind == "value_error":
        message = str(problem["ctx"]["error"])
        return document.error(location, message, code="bad-value")
    if kind in ("dict_type", "model_type", "model_attributes_type"):
        return document.error(location, f"{quoted(value)} is not a mapping", "write `key: value`", "bad-value")
    if kind == "list_type":
        meant = _example(schema, location) if value is None else f"[{value if isinstance(value, str) else '…'}]"
        return document.error(location, f"{quoted(value)} is not a list", f"write {meant or '[…]'}", "bad-value")
    return document.error(location, *_unfit(schema, location, problem), "bad-value")


def _unfit(schema: type[BaseModel], location: Location, problem: Any) -> tuple[str, str]:
    """The message and the remedy for a value of the wrong type or range."""
    kind, value = problem["type"], problem["input"]
    key, example = location[-1] if location else "", _example(schema, location)
    like = f"write it like {example}" if example else ""
    if kind == "literal_error":
        known = re.findall(r"'([^']+)'", problem["ctx"]["expected"])
        near = suggestion(str(value), known) if len(known) > MOST_LISTED else ""
        return f"unknown value {quoted(value)} for {key}", near or f"use {', '.join(known[:-1])} or {known[-1]}"
    if kind in ("greater_than_equal", "less_than_equal", "greater_than", "less_than", "finite_number"):
        low, high = _bounds(schema, location)
        if low is None and high is None:  # a value of a mapping with keys of any kind
            low, high = problem["ctx"].get("ge"), problem["ctx"].get("le")
        span = _span(low, high)
        return f"{key} {quoted(value)[1:-1]} is out of range: {span}", like
    if kind.startswith("int_"):
        return f"{quoted(value)} is not a whole number", like
    if kind.startswith("float_"):
        return f"{quoted(value)} is not a number", like
    if kind.startswith("bool_"):
        return f"{quoted(value)} is neither true nor false", "write true or false"
    if kind.startswith("date_"):
        return f"{quoted(value)} is not a date", like
    if kind == "too_short":
        return f"{key} is empty", like
    if kind.startswith("string_"):
        return f"{quoted(value)} is not text", like
    return f"{quoted(value)} cannot be used here", like


def _span(low: float | None, high: float | None) -> str:
    least, most = (f"{int(end) if end == int(end) else end:,}" if end is not None else "" for end in (low, high))
    if least and most:
        return f"{least} to {most}"
    return f"at least {least}" if least else f"at most {most}"


def _bounds(schema: type[BaseModel], location: Location) -> tuple[float | None, float | None]:
    """The least and the greatest value that a key may have."""
    owner = _model_at(schema, location[:-1])
    fields = {info.alias or name: info for name, info in owner.model_fields.items()} if owner else {}
    info = fields.get(str(location[-1]))
    limits = info.metadata if info is not None else []
    low = next((limit.ge for limit in limits if hasattr(limit, "ge")), None)
    high = next((limit.le for limit in limits if hasattr(limit, "le")), None)
    return low, high


def _model_at(schema: Any, location: Location) -> type[BaseModel] | None:
    """The model of the part at `location`, in a document with this schema."""
    here = schema
    for part in (*location, None):
        while not (isinstance(here, type) and issubclass(here, BaseModel)):
            origin, arguments = get_origin(here), get_args(here)
            if origin in (list, dict) and part is not None:
                here = arguments[-1]
                break
            inner = [argument for argument in arguments if argument is not type(None)]
            if not inner or origin in (list, dict):
                return None
            here = inner[0]
        else:
            if part is None:
                return here
            fields = {info.alias or name: info for name, info in here.model_fields.items()}
            if part not in fields:
                return None
            here = fields[str(part)].annotation
    return None


def _example(schema: type[BaseModel], location: Location) -> str:
    owner = _model_at(schema, location[:-1])
    fields = {info.alias or name: info for name, info in owner.model_fields.items()} if owner else {}
    info = fields.get(str(location[-1]))
    return str(info.examples[0]) if info is not None and info.examples else ""

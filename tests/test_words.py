"""One word for one thing: no public name of the program uses a word that the glossary rules out."""

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import click
import pytest

from tools.make_glossary_page import PAGE, page
from wily_sluice.cli.main import sluice
from wily_sluice.cli.setup import json_schema
from wily_sluice.plan.explain.glossary import GLOSSARY
from wily_sluice.plan.findings.registry import CODES

SOURCE = Path(__file__).parents[1] / "src/wily_sluice"
RULED_OUT = {  # without other forms of the same word
    word.lower(): term.name for term in GLOSSARY for word in term.also if word[:3].lower() != term.name[:3].lower()
}


def _trees(*rooms: str) -> Iterator[ast.AST]:
    for room in rooms:
        for file in sorted((SOURCE / room).rglob("*.py")):
            if file != SOURCE / "cli/main.py":  # which knows what commands are called elsewhere
                yield from ast.walk(ast.parse(file.read_text()))


def _commands(command: click.Command, path: str) -> Iterator[tuple[str, click.Command]]:
    yield path, command
    if isinstance(command, click.Group):
        context = click.Context(command)
        for name in command.list_commands(context):
            found = command.get_command(context, name)
            assert found is not None
            yield from _commands(found, f"{path} {name}")


def options() -> Iterator[str]:
    """Commands and their options."""
    for path, command in _commands(sluice, "sluice"):
        yield path.rpartition(" ")[2]
        for parameter in command.params:
            if isinstance(parameter, click.Option) and not parameter.hidden:
                yield from (name.lstrip("-") for name in parameter.opts)


def json_keys() -> Iterator[str]:
    """Keys of dictionaries where results are made into data."""
    for node in _trees("views", "control/api", "comparing", "cli"):
        if isinstance(node, ast.Dict):
            yield from (key.value for key in node.keys if isinstance(key, ast.Constant) and isinstance(key.value, str))


def columns() -> Iterator[str]:
    """Headings of tables."""
    for node in _trees("views", "cli"):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr == "add_column":
            for part in node.args[:1]:
                yield from (
                    one.value for one in ast.walk(part) if isinstance(one, ast.Constant) and isinstance(one.value, str)
                )


def events() -> Iterator[str]:
    """Events of the log, and notices."""
    for node in _trees("gate", "control"):
        if (
            isinstance(node, ast.Constant)
            and isinstance(node.value, str)
            and re.fullmatch(r"[a-z]+\.[a-z_]+", node.value)
        ):
            yield node.value


def metrics() -> Iterator[str]:
    """Names of metrics and their labels."""
    text = (Path(__file__).parents[1] / "docs/metrics.md").read_text()
    yield from re.findall(r"sluice_[a-z_]+", text)


def plan_keys() -> Iterator[str]:
    """Keys of the plan file, in all its parts."""
    schema = json_schema("plan")
    for part in (schema, *(part for name, part in schema["$defs"].items() if name.endswith("Entry"))):
        yield from part.get("properties", ())


def codes() -> Iterator[str]:
    """Codes of findings."""
    yield from CODES


@pytest.mark.parametrize("names", [options, json_keys, columns, events, metrics, plan_keys, codes])
def test_public_names_use_the_words_of_the_glossary(names: object) -> None:
    found = {}
    for name in names():  # type: ignore[operator]
        words = re.findall(r"[a-z]+", name.lower())
        for word in (*words, " ".join(words)):
            if word in RULED_OUT:
                found[name] = f"{word}, which is {RULED_OUT[word]} here"
    assert not found


def test_the_page_of_the_glossary_is_current() -> None:
    assert PAGE.read_text() == page()

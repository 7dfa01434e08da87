"""Every example in the help of every command: it runs on the demo's site, or at least its words are understood."""

import shlex
import shutil
from collections.abc import Iterator
from pathlib import Path

import click
import pytest
from click.testing import CliRunner

from wily_sluice import examples
from wily_sluice.cli.main import sluice

# What needs root, another machine, a terminal or a minute; of these the words are parsed.
ELSEWHERE = {"gauge", "rig", "gate", "watch", "doctor", "demo", "new", "prove", "apply", "usage", "lab", "compare"}
RUN_ALL_THE_SAME = {
    "sluice gate install --print",
    "sluice new --like list",
    "sluice new --like shop --output shop.yaml",
}
REPORTS = {"check"}  # whose status says what was found
BEFORE = {"on": "off", "leave": "join"}  # what an edit takes back


def _commands(command: click.Command, context: click.Context) -> Iterator[click.Command]:
    yield command
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            below = command.get_command(context, name)
            assert below is not None
            yield from _commands(below, click.Context(below, parent=context, info_name=name))


def _examples() -> list[str]:
    found: dict[str, None] = {}
    for command in _commands(sluice, click.Context(sluice, info_name="sluice")):
        _, _, shown = (command.help or "").partition("Example")
        lines = [line.strip() for line in shown.splitlines()]
        found |= dict.fromkeys(line for line in lines if line.removeprefix("sudo ").startswith("sluice "))
    return list(found)


@pytest.fixture
def site(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder with the demo's files by the names that examples use, and what those ask for that the demo has not."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.delenv("SLUICE_PLAN", raising=False)
    folder = examples.folder()
    for name in ("sluice", "surgery", "surgery-new", "old", "new"):
        shutil.copy(folder / examples.PLAN, f"{name}.yaml")
    for name in ("morning.pcap", "morning.pcapng"):
        shutil.copy(folder / examples.CAPTURE, name)
    for extra in (one for one in folder.iterdir() if one.is_file()):
        shutil.copy(extra, tmp_path)
    shutil.copy(folder / "saltmarsh-afternoon.yaml", "afternoon.yaml")
    return tmp_path


@pytest.mark.parametrize("example", _examples())
def test_an_example_runs_or_is_understood(example: str, site: Path) -> None:
    line, _, _ = example.partition(" > ")
    line, _, given = line.partition(" < ")
    words = shlex.split(line)
    root = words[0] == "sudo"
    words = words[2:] if root else words[1:]
    runner = CliRunner()
    if (root or words[0] in ELSEWHERE) and line not in RUN_ALL_THE_SAME:
        _understood(words)
        return
    if words[0] == "edit" and len(words) > 3 and words[2] != "add":
        _make(words, runner)
    if words[:2] == ["edit", "undo"]:
        for _ in range(3):
            assert runner.invoke(sluice, ["edit", "queue", "set", "calls", "guarantee=11%"]).exit_code == 0
            assert runner.invoke(sluice, ["edit", "queue", "set", "calls", "guarantee=12%"]).exit_code == 0
    done = runner.invoke(sluice, words, input=Path(given).read_text() if given else None)
    assert done.exit_code in ((0, 1) if words[0] in REPORTS else (0,)), f"{example}\n{done.output}"


def _make(words: list[str], runner: CliRunner) -> None:
    """Add what an edit of an example needs, as the help says how, unless the demo has it."""
    kind, verb = words[1], words[2]
    if (kind, verb) == ("mapping", "move"):
        runner.invoke(sluice, ["edit", "mapping", "add", "Others", "local=console", "port=4000"])
    adding = next(
        (one for one in _examples() if one.startswith(f"sluice edit {kind} add ") and "--to" not in one), None
    )
    if adding is not None:
        runner.invoke(sluice, shlex.split(adding)[1:])
    if verb in BEFORE:
        runner.invoke(sluice, ["edit", kind, BEFORE[verb], *words[3:]])


def _understood(words: list[str]) -> None:
    """The words are commands, options and arguments that there are, with values that they take."""
    command: click.Command = sluice
    context = click.Context(sluice, info_name="sluice")
    while isinstance(command, click.Group):
        name, below, words = command.resolve_command(context, list(words))
        assert below is not None and name is not None
        context = click.Context(below, parent=context, info_name=name)
        command = below
    command.make_context(context.info_name, list(words), parent=context.parent)

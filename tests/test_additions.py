"""What is added in how many files: a dummy of each kind is put into a copy of the package, which then has it."""

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import wily_sluice
from tests.conftest import SMALL_PLAN

ROOT = Path(__file__).parent.parent
KIND = '''

@kind("dummy", "warning", story="What a dummy is.\\n")
def dummy(checked: Checked) -> Iterator[Told]:
    """Every plan has one."""
    yield Told(("site",), "a dummy", "leave it")
'''
FIELD = '''

class Dummy(Field[int]):
    """A length of packets, in another word."""

    key, entry, example, turn = "dummy", int, "1200", 1

    def condition(self, asked: int, engine: Engine) -> Condition:
        """The packet is no longer than this."""
        return LengthIs(asked)

    def need(self, asked: int, needs: Needs) -> None:
        """The length."""
        needs.lengths.add(asked)

    def boxes(self, asked: int, space: Space) -> Iterable[Box]:
        """A property of its own."""
        return [space.flag("dummy", str(asked))]

    def text(self, asked: int) -> str:
        """The number."""
        return str(asked)

    def phrase(self, asked: int) -> str:
        """With it."""
        return f" with dummy {asked}"
'''
PROMISE = '''

def dummy_promises(bench: Bench) -> Iterator[Promise]:
    """One, that is kept."""
    yield Promise(Proof("dummy", "Dummy", "here", ("site",), "1", "1", "kept", ""))
'''
COMMAND = '''"""`sluice dummy`."""

import click


@click.command()
def dummy() -> None:
    """Say so."""
    click.echo("a dummy")
'''
CHECKED = """
CHECKS = (*CHECKS, Check("dummy", "warning", "A dummy.", lambda plan, facts: iter([Found("", "a dummy", "leave it")])))
"""
# What is added: for each file, a pattern and what stands in its place; a command, and what it prints then.
ADDED = {
    "a finding": (
        {
            "plan/findings/uplinks.py": (r"\Z", KIND),
            "plan/findings/registry.py": (r"\n\)\nCODES", "\n    uplinks.dummy,\n)\nCODES"),
        },
        ["check", "plan.yaml"],
        "a dummy",
    ),
    "a field of a rule": (
        {
            "plan/fields/traffic.py": (r"\Z", FIELD),
            "plan/fields/registry.py": (r"\n\)\nIN_A", "\n    traffic.Dummy(),\n)\nIN_A"),
        },
        ["show", "rules", "plan.yaml"],
        "with dummy 1200",
    ),
    "a promise": (
        {
            "forecast/prove/queues.py": (r"\Z", PROMISE),
            "forecast/prove/promises.py": (r"\n\)\n", "\n    queues.dummy_promises,\n)\n"),
        },
        ["prove", "plan.yaml"],
        "dummy",
    ),
    "a command": (
        {
            "cli/trying/dummy.py": (r"\Z", COMMAND),
            "cli/main.py": (r'    "Try": \{', '    "Try": {\n        "dummy": Entry("trying.dummy", "Say so."),'),
        },
        ["dummy"],
        "a dummy",
    ),
    "a check of the machine": ({"doctor/machine.py": (r"\Z", CHECKED)}, ["doctor", "plan.yaml"], "a dummy"),
}


@pytest.mark.parametrize("what", ADDED)
def test_what_is_added_touches_one_file_or_two(what: str, tmp_path: Path) -> None:
    files, command, shown = ADDED[what]
    assert len(files) <= 2
    package = tmp_path / "wily_sluice"
    source = Path(wily_sluice.__file__).parent
    shutil.copytree(source, package, ignore=shutil.ignore_patterns("__pycache__"))
    for name, (pattern, text) in files.items():
        file = package / name
        before = file.read_text(encoding="utf-8") if file.exists() else ""
        after, count = re.subn(pattern, lambda _, text=text: text, before, count=1)
        assert count == 1, f"{name} has no {pattern}"
        file.write_text(after, encoding="utf-8")
        for compiled in package.glob(f"{name.removesuffix('.py')}.*.so"):
            compiled.unlink()
    plan = SMALL_PLAN.replace("port: 5004-5005,", "port: 5004-5005, dummy: 1200,") if "field" in what else SMALL_PLAN
    (tmp_path / "plan.yaml").write_text(plan)
    environment = {**os.environ, "PYTHONPATH": str(tmp_path)}
    ended = subprocess.run(
        [sys.executable, "-m", "wily_sluice", *command], cwd=tmp_path, env=environment, capture_output=True, text=True,
        check=False,
    )  # fmt: skip
    assert shown in ended.stdout, ended.stderr


def test_the_design_says_which_files(tmp_path: Path) -> None:
    table = (ROOT / "docs" / "design.md").read_text(encoding="utf-8").partition("### How to add something")[2]
    for files, _, _ in ADDED.values():
        for name in files:
            folder, _, file = name.rpartition("/")
            assert f"`{name}`" in table or f"`{folder}`" in table or f"{file}`" in table, name

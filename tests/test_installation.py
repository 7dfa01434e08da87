"""What a person gets who installs the program: compiled code, manual pages, and the reason where it is not compiled."""

import json
import os
import subprocess
import sys
from importlib.resources import files
from pathlib import Path

import pytest

import wily_sluice
from tests.conftest import form
from wily_sluice.outside.machine import EDITABLE, version_words, why_not_compiled

ROOT = Path(__file__).parent.parent
PACKAGE = Path(wily_sluice.__file__).parent
PLAN = str(ROOT / "src/wily_sluice/examples/saltmarsh.yaml")
COMPILED = ("engine", "recognition")
SHIPPED = pytest.mark.skipif(form() == "source", reason="not installed from a wheel")


@SHIPPED
def test_all_of_the_engine_and_of_recognition_is_compiled() -> None:
    left = [
        file
        for part in COMPILED
        for file in (PACKAGE / part).rglob("*.py")
        if file.stem != "__init__" and not list(file.parent.glob(f"{file.stem}.*.so"))
    ]
    assert left == []
    assert json.loads((files("wily_sluice") / "form.json").read_text()) == {"reason": ""}
    assert "engine compiled" in version_words("0")


@SHIPPED
def test_a_wheel_brings_the_manual_pages() -> None:
    written = {page.name: page.read_text() for page in (ROOT / "docs" / "man").glob("*.1")}
    installed = {page.name: page.read_text() for page in (Path(sys.prefix) / "share/man/man1").glob("sluice*.1")}
    assert installed == written


def test_the_manual_pages_are_those_of_the_commands() -> None:
    pytest.importorskip("click_man")
    from tools.manual import pages

    assert {page.name: page.read_text() for page in (ROOT / "docs" / "man").glob("*.1")} == pages()


@pytest.mark.skipif(form() == "compiled", reason="installed from a wheel")
def test_an_editable_installation_says_that_it_is_one() -> None:
    assert why_not_compiled() == EDITABLE


@SHIPPED
def test_without_a_compiler_the_program_works_and_says_why_it_is_slow(tmp_path: Path) -> None:
    """As installed with `pip install .`; what else it needs is taken from this environment."""
    plain, absent = tmp_path / "plain", {**os.environ, "CC": "/nowhere/cc"}
    pip = [sys.executable, "-m", "pip", "install", "--quiet", "--no-deps", "--target", str(plain), str(ROOT)]
    subprocess.run(pip, env=absent, check=True)

    def sluice(*words: str) -> str:
        command = [sys.executable, "-P", "-m", "wily_sluice", *words]
        there = {**os.environ, "PYTHONPATH": str(plain)}
        done = subprocess.run(command, env=there, cwd=tmp_path, capture_output=True, text=True, check=False)
        assert done.returncode in (0, 2), done.stderr
        return done.stdout

    said = " ".join(sluice("--version").split())
    assert "not compiled: no C compiler (/nowhere/cc) was found when it was installed" in said
    assert "python3-dev" in said
    assert "calls" in sluice("split", PLAN)
    complaints = json.loads(sluice("doctor", "--json", PLAN))["complaints"]
    assert [one["where"] for one in complaints if one["code"] == "not-compiled"] == ["engine"]

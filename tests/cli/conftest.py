"""The built program, as a user runs it."""

import os
import subprocess
from collections.abc import Callable
from pathlib import Path

import pexpect
import pytest

from tests import program
from tests.conftest import SMALL_PLAN

Sluice = Callable[..., "subprocess.CompletedProcess[str]"]
PATIENCE = 60  # seconds
PROGRAM = [str(program.PROGRAM)]


@pytest.fixture
def sluice(tmp_path: Path) -> Sluice:
    """Runs the program in a folder with a small plan in it."""
    (tmp_path / "sluice.yaml").write_text(SMALL_PLAN)
    environment = {key: value for key, value in os.environ.items() if key != "SLUICE_PLAN"}

    def run(*arguments: str, **variables: str) -> "subprocess.CompletedProcess[str]":
        return program.run(arguments, tmp_path, environment | variables)

    return run


def talk(folder: Path, answers: list[tuple[str, str]], *words: str) -> "pexpect.spawn[str]":
    """Answer the program's questions on a terminal."""
    environment = {**os.environ, "TERM": "dumb", "XDG_STATE_HOME": str(folder / "state")}
    talking = pexpect.spawn(
        PROGRAM[0], ["new", *words], cwd=folder, env=environment, encoding="utf-8", timeout=PATIENCE
    )
    talking.setwinsize(50, 120)
    for prompt, answer in answers:
        talking.expect(rf"{prompt}[^\r\n>]*> ")
        talking.sendline(answer)
    return talking

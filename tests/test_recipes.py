"""Every command on the pages of recipes does what the page says: it runs; those that need root at least exist."""

import os
import re
from pathlib import Path

import pytest

from tests.program import PROGRAM, run, run_line

RECIPES = Path(__file__).parents[1] / "docs" / "recipes"
BLOCK = re.compile(r"^```sh\n(.*?)^```$", re.MULTILINE | re.DOTALL)
REPORTS = ("check",)  # whose status says what was found


def pages() -> list[Path]:
    return sorted(page for page in RECIPES.glob("*.md") if page.name != "README.md")


@pytest.mark.parametrize("page", pages(), ids=lambda page: page.stem)
def test_the_commands_of_a_recipe_run(page: Path, tmp_path: Path) -> None:
    environment = {
        **os.environ,
        "XDG_STATE_HOME": str(tmp_path / "state"),
        "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}",
    }
    environment.pop("SLUICE_PLAN", None)
    lines = [line for block in BLOCK.findall(page.read_text()) for line in block.splitlines() if line]
    assert len(lines) >= 5
    for line in lines:
        if line.startswith("sudo "):
            words = [word for word in line.split()[1:] if word.isalpha()][:3]
            line = f"{' '.join(words)} --help"
        done = run_line(line, tmp_path, environment)
        assert done.returncode == 0, f"{line}\n{done.stdout}{done.stderr}"
    last = run(["check"], tmp_path, environment)
    assert last.returncode == 0 and " warning: " not in last.stdout, last.stdout


def test_every_recipe_is_in_the_index_begins_with_a_goal_and_ends_with_how_to_see_that_it_works() -> None:
    index = (RECIPES / "README.md").read_text()
    for page in pages():
        text = page.read_text()
        assert f"({page.name})" in index
        assert text.split("\n\n")[1].startswith("**Goal:**")
        assert "**See that it works:**" in text

"""The map of the code in docs/design.md: what it names is there, and it names every module."""

import re
from pathlib import Path

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "wily_sluice"


def test_the_map_of_the_code_names_every_module_and_no_other() -> None:
    text = (ROOT / "docs" / "design.md").read_text(encoding="utf-8")
    named, folders = set(), list[tuple[int, str]]()
    for line in text.partition("    src/wily_sluice/\n")[2].partition("    tests/")[0].splitlines():
        indent = len(line) - len(line.lstrip())
        while folders and folders[-1][0] >= indent:
            folders.pop()
        if folder := re.match(r"([a-z_/]+/)(\s|$)", line.strip()):
            folders.append((indent, folder[1]))
        named |= {"".join(part for _, part in folders) + name for name in re.findall(r"[a-z_0-9]+\.py", line)}
    modules = {str(file.relative_to(SOURCE)) for file in SOURCE.rglob("*.py") if not file.name.startswith("__")}
    assert named == modules

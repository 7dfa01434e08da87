"""Makes the manual pages of `docs/man`, one for every command, which every wheel contains: `python -m tools.manual`.

They carry no date, so that they change only when a command does.
"""

import re
from collections.abc import Iterator
from pathlib import Path

import click
from click_man.core import generate_man_page

from wily_sluice import __version__
from wily_sluice.cli.main import sluice

FOLDER = Path(__file__).parent.parent / "docs" / "man"


def contexts(command: click.Command, name: str, parent: click.Context | None = None) -> Iterator[click.Context]:
    """Of a command and of all below it."""
    context = click.Context(command, info_name=name, parent=parent)
    yield context
    if isinstance(command, click.Group):
        for below in command.list_commands(context):
            found = command.get_command(context, below)
            assert found is not None
            yield from contexts(found, below, context)


def pages() -> dict[str, str]:
    """The text of each page by its name: sluice.1, sluice-split.1, sluice-gate-run.1 and so on."""
    made = {}
    for context in contexts(sluice, "sluice"):
        context.command.short_help = (context.command.help or "").partition("\n")[0].rstrip(".")
        text = generate_man_page(context, __version__)
        dated = re.sub(r'^(\.TH "[^"]*" "1") "[^"]*"', r'\1 ""', text, count=1, flags=re.M)
        made[f"{context.command_path.replace(' ', '-')}.1"] = dated.rstrip("\n") + "\n"
    return made


def main() -> None:
    """Write all pages, and remove those of commands that are gone."""
    made = pages()
    FOLDER.mkdir(exist_ok=True)
    for file in FOLDER.glob("*.1"):
        if file.name not in made:
            file.unlink()
    for name, text in made.items():
        (FOLDER / name).write_text(text)


if __name__ == "__main__":
    main()

"""Makes a manual page for every command, which a wheel then contains: `python -m tools.manual FOLDER`."""

import sys
from collections.abc import Iterator
from pathlib import Path

import click
from click_man.core import generate_man_page

from wily_sluice import __version__
from wily_sluice.cli.main import sluice


def contexts(command: click.Command, name: str, parent: click.Context | None = None) -> Iterator[click.Context]:
    """Of a command and of all below it."""
    context = click.Context(command, info_name=name, parent=parent)
    yield context
    if isinstance(command, click.Group):
        for below in command.list_commands(context):
            found = command.get_command(context, below)
            assert found is not None
            yield from contexts(found, below, context)


def main(folder: Path) -> None:
    """Write the pages: sluice.1, sluice-split.1, sluice-gate-run.1 and so on."""
    folder.mkdir(parents=True, exist_ok=True)
    for context in contexts(sluice, "sluice"):
        context.command.short_help = (context.command.help or "").partition("\n")[0].rstrip(".")
        page = generate_man_page(context, __version__)
        (folder / f"{context.command_path.replace(' ', '-')}.1").write_text(page)


if __name__ == "__main__":
    main(Path(sys.argv[1]))

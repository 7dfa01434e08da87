"""The terminal that results are printed on: colour only where it is one, and plain lines into a pipe or a file."""

import json
import sys
from typing import Any

import click
from rich.console import Console
from rich.text import Text

PIPE_WIDTH = 140  # columns, where nobody's window says


def console(stderr: bool = False) -> Console:
    """A console on the standard output, or on the standard error."""
    stream = sys.stderr if stderr else sys.stdout
    width = None if stream.isatty() else PIPE_WIDTH
    return Console(file=stream, highlight=False, width=width, emoji=False)


def print_line(screen: Console, text: Text | str) -> None:
    """Print a line, wrapped between words on a terminal and left whole in a pipe or a file."""
    screen.print(text, soft_wrap=not screen.is_terminal)


def print_json(data: Any) -> None:
    """Print data as JSON (RFC 8259), in the order given."""
    click.echo(json.dumps(data, indent=2, ensure_ascii=False))

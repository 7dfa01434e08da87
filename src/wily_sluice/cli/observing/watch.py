"""`sluice watch`: the gate at work, live."""

import json
import os
import select
import sys
import termios
import time
import tty
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import click
from rich.console import Group
from rich.live import Live

from wily_sluice.cli.options import json_option
from wily_sluice.control.client import Client
from wily_sluice.errors import LiveError
from wily_sluice.views.live.watch import PAGES, Page, Watch
from wily_sluice.views.text.console import console

REPLACED_WITHIN = 8.0  # seconds, in which a process that has ended beside the gate is started again
SEQUENCES = {
    "\x1b[A": "up",
    "\x1b[B": "down",
    "\x1b[C": "right",
    "\x1b[D": "left",
    "\x1b[5~": "page up",
    "\x1b[6~": "page down",
    "\x1bOA": "up",
    "\x1bOB": "down",
    "\x1bOC": "right",
    "\x1bOD": "left",
    "\x1b": "escape",
    "\r": "enter",
    "\n": "enter",
    "\t": "tab",
    "\x7f": "backspace",
    "\x08": "backspace",
    "\x03": "ctrl-c",
}
PLAIN_WIDTH = 100


@click.command()
@click.option("--page", type=click.Choice(PAGES), default="queues", show_default=True, help="First page.")
@click.option("--plain", is_flag=True, help="Print a table each second instead of drawing.")
@click.option("--filter", "only", default="", metavar="WORD", help="Only rows whose name contains this.")
@click.option("--seconds", type=click.FloatRange(0.1), default=None, metavar="N", help="Exit after N seconds.")
@json_option
def watch(page: Page, plain: bool, only: str, seconds: float | None, as_json: bool) -> None:
    """Watch the gate live in the terminal.

    Shows queues, hosts, services, conversations, limiters and rules, redrawn twice a second. Keys: ← and → or 1 to 6
    change the page, ↑ and ↓ select a row, s sorts, / filters by name, space freezes the figures, a shows idle rows
    too, e explains the row, q quits. Without a terminal, or with --plain, prints a table each second; with --json, one
    object a second.

    Needs no root if the plan lets others watch: `gate: {watchers: everyone}`.

    \b
    Examples:
      sudo sluice watch
      sluice watch --page hosts --plain --seconds 10
      sluice watch --json
    """
    ends = time.monotonic() + seconds if seconds is not None else None
    state = Watch(page=page, filter=only)
    if as_json:
        for told in _told(ends, "seconds"):
            click.echo(json.dumps(told, ensure_ascii=False))
    elif plain or not (sys.stdin.isatty() and sys.stdout.isatty()) or os.environ.get("TERM") in (None, "dumb"):
        _plain(state, ends)
    else:
        _drawn(state, ends)


def _connect_again() -> Client:
    """To a gate whose process for answering has been replaced. LiveError when it is the gate itself that has ended."""
    over = time.monotonic() + REPLACED_WITHIN
    while True:
        try:
            return Client(watching=True)
        except LiveError:
            if time.monotonic() >= over:
                raise LiveError("the gate has ended") from None
            time.sleep(0.2)


def _told(ends: float | None, to: str) -> Iterator[dict[str, Any]]:
    client = Client(watching=True)
    while True:
        with client:
            client.call("watch.subscribe", to=to)
            for told in client.notifications():
                yield told
                if ends is not None and time.monotonic() >= ends:
                    return
        client = _connect_again()


def _plain(state: Watch, ends: float | None) -> None:
    screen = console()
    for told in _told(ends, "conversations" if state.wants_conversations else "seconds"):
        state.feed(told)
        width = screen.width if screen.is_terminal else PLAIN_WIDTH
        for line in state.table(width):
            screen.print(line, soft_wrap=True)
        screen.print()


@contextmanager
def _keys_at_once() -> Iterator[None]:
    """Keys come one by one, and are not shown; as it was before, afterwards."""
    before = termios.tcgetattr(sys.stdin)
    try:
        tty.setcbreak(sys.stdin)
        yield
    finally:
        termios.tcsetattr(sys.stdin, termios.TCSADRAIN, before)


def _drawn(state: Watch, ends: float | None) -> None:
    screen = console()
    client = Client(watching=True)
    subscribed = ""
    with _keys_at_once(), Live(console=screen, screen=True, auto_refresh=False) as live:
        while not state.over and (ends is None or time.monotonic() < ends):
            wanted = "conversations" if state.wants_conversations else "ticks"
            if wanted != subscribed:
                client.ask("watch.subscribe", to=wanted)
                subscribed = wanted
            readable, _, _ = select.select([client, sys.stdin], (), (), 0.5)
            if sys.stdin in readable:
                for key in _keys(os.read(sys.stdin.fileno(), 1024).decode("utf-8", "ignore")):
                    state.press(key)
            if client in readable:
                told = client.waiting()
                if told is None:
                    client.close()
                    client, subscribed = _connect_again(), ""
                    continue
                for one in told[-1:]:
                    state.feed(one)
            if readable:
                live.update(Group(*state.lines(screen.width, screen.height)), refresh=True)


def _keys(text: str) -> Iterator[str]:
    """What was pressed, by name."""
    while text:
        for sequence, name in SEQUENCES.items():
            if text.startswith(sequence) and (len(sequence) > 1 or len(text) == 1 or sequence != "\x1b"):
                yield name
                text = text[len(sequence) :]
                break
        else:
            if text[0] == "\x1b":  # a sequence that means nothing here
                return
            yield text[0]
            text = text[1:]

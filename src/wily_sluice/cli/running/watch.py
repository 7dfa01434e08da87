"""`sluice watch`: the gate at work, live."""

import json
import os
import sys
import time
from collections.abc import Iterator
from typing import Any

import click

from wily_sluice.cli.options import Time, json_option, renamed
from wily_sluice.control.client import Client
from wily_sluice.errors import LiveError
from wily_sluice.units import SECOND, Nanoseconds
from wily_sluice.views.live.watch.cells import table
from wily_sluice.views.live.watch.state import PAGES, Page, Watch
from wily_sluice.views.text.console import console

AGAIN = 0.2
REPLACED_WITHIN = 8.0  # seconds, in which a process that has ended beside the gate is started again
PLAIN_WIDTH = 100


@click.command()
@click.option("--page", type=click.Choice(PAGES), default="queues", show_default=True, help="First page.")
@click.option("--plain", is_flag=True, help="Print a table each second instead of drawing.")
@click.option("--filter", "only", default="", metavar="WORD", help="Only rows whose name contains this.")
@click.option("--for", "lasts", type=Time(), default=None, help="Exit after this time.")
@renamed("--seconds", "--for")
@json_option
def watch(page: Page, plain: bool, only: str, lasts: Nanoseconds | None, as_json: bool) -> None:
    """Watch the gate live in the terminal.

    Shows queues, hosts, services, conversations, limiters and rules, redrawn twice a second. Keys: ← and → or 1 to 6
    change the page, ↑ and ↓ select a row, s sorts, / filters by name, space freezes the figures, a shows idle rows
    too, e explains the row, ? shows help, q quits; the mouse works too. Without a terminal, or with --plain, prints a
    table each second; with --json, one object a second.

    Needs no root if the plan lets others watch: `gate: {watchers: everyone}`.

    \b
    Examples:
      sudo sluice watch
      sluice watch --page hosts --plain --for '10 s'
      sluice watch --json
    """
    ends = time.monotonic() + lasts / SECOND if lasts is not None else None
    state = Watch(page=page, filter=only)
    if as_json:
        for tick in _told(ends, "seconds"):
            click.echo(json.dumps(tick, ensure_ascii=False))
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
            for notification in client.notifications():
                yield notification
                if ends is not None and time.monotonic() >= ends:
                    return
        client = _connect_again()


def _plain(state: Watch, ends: float | None) -> None:
    screen = console()
    for tick in _told(ends, "conversations" if state.page == "conversations" else "seconds"):
        state.feed(tick)
        width = screen.width if screen.is_terminal else PLAIN_WIDTH
        for line in table(state, width):
            screen.print(line, soft_wrap=True)
        screen.print()


def _drawn(state: Watch, ends: float | None) -> None:
    screen = console()
    client = Client(watching=True)
    client.ask("watch.subscribe", to=state.wanted)
    # Where the gate leaves little of the processors, what draws is long in coming: the first figures stand meanwhile.
    screen.set_alt_screen(True)
    handed_over = False
    try:
        while not (news := client.waiting()):
            if news is None:
                raise LiveError("the gate has ended")
        state.feed(news[-1])
        for line in table(state, screen.width)[: screen.height - 1]:
            screen.print(line, soft_wrap=True)
        from wily_sluice.cli.running.live import LiveWatch

        live = LiveWatch(state, client, ends)
        handed_over = True
    finally:
        if not handed_over:
            screen.set_alt_screen(False)
    live.run()
    if live.trouble is not None:
        raise live.trouble

"""Asks questions on a terminal; `back` returns to the previous one, `?` explains, `quit` ends.

The questions are a plain function that is run again from its beginning after `back`: earlier answers are then repeated
without asking, and later ones are offered as defaults.
"""

from __future__ import annotations

from collections.abc import Callable
from shutil import get_terminal_size
from typing import Any, Final

import click

from wily_sluice.outside import machine

WIDEST: Final = 100  # columns of a question
MORE: Final = "`back` returns to the question before, `quit` ends; nothing is written until the end."

Answers = dict[str, Any]


class _Back(Exception):  # not an error: the person wants the question before
    pass


class Interview:
    """The questions for everything that `given` does not answer. `answers` has all answers once `run` returns."""

    def __init__(self, answers: Answers, questions: Callable[[Interview, Answers], None]) -> None:
        self._given = answers
        self._questions = questions
        self._words: list[str] = []  # as they were typed, in order
        self._kept: dict[tuple[int, str], str] = {}  # typed before `back`, by place and prompt
        self._place = 0
        self._here = machine.interfaces()
        self.answers: Answers = {}

    def run(self) -> Answers:
        """Ask until everything is answered."""
        click.echo(click.wrap_text(f"A plan in a few questions. `?` tells more, {MORE}", _width()))
        return self._ask_all()

    def again(self) -> Answers:
        """Return to the last question, and ask from there."""
        self._words = self._words[:-1]
        return self._ask_all()

    def _ask_all(self) -> Answers:
        while True:
            self.answers, self._place = dict(self._given), 0
            try:
                self._questions(self, self.answers)
                return self.answers
            except _Back:
                self._words = self._words[:-1]

    @property
    def _asking(self) -> bool:
        return self._place >= len(self._words)

    def say(self, words: str, **style: Any) -> None:
        """Print a line, unless the question that it belongs to is answered already."""
        if self._asking:
            click.secho(words, **style)

    def note(self, words: str) -> None:
        """Say what may be wrong with the answer that was just given."""
        if self._asking:
            click.secho(click.wrap_text(f"note: {words}", _width()), fg="yellow")

    def ask(
        self, prompt: str, about: str, parse: Callable[[str], Any], default: str | None = None, more: str = ""
    ) -> Any:
        """One question with its explanation. An answer that `parse` rejects with a ValueError is asked again."""
        if not self._asking:
            self._place += 1
            return parse(self._words[self._place - 1])
        default = self._kept.get((self._place, prompt), default)
        click.echo()
        click.secho(click.wrap_text(about, _width()), dim=True)
        while True:
            words = click.prompt(prompt, default=default, show_default=bool(default), prompt_suffix=" > ").strip()
            if words.lower() in ("back", "b"):
                raise _Back
            if words.lower() in ("quit", "q"):
                raise click.Abort
            if words == "?":
                click.echo(click.wrap_text(f"{more} {MORE}".strip(), _width()))
                continue
            try:
                answer = parse(words)
            except ValueError as error:
                click.echo(click.wrap_text(str(error), _width()))
                continue
            self._kept[self._place, prompt] = words
            self._words.append(words)
            self._place += 1
            return answer

    def yes(self, prompt: str, about: str, default: bool = False, more: str = "") -> bool:
        """A question of yes or no."""

        def parse(words: str) -> bool:
            if words.lower() not in ("y", "yes", "n", "no"):
                raise ValueError("write y or n")
            return words.lower().startswith("y")

        return bool(self.ask(f"{prompt}? y/n", about, parse, "y" if default else "n", more))

    def interface(self, about: str, offered: str | None, taken: set[str]) -> str:
        """An interface that nothing else uses."""

        def parse(words: str) -> str:
            if not words or len(words) > 15 or any(sign in words for sign in " /"):
                raise ValueError("write the name of an interface, such as eth0")
            if words in taken:
                raise ValueError(f"{words} is in use already: each uplink and each network needs a different interface")
            return words

        more = "`ip -brief address` lists the interfaces of this machine with their addresses."
        name = str(self.ask("interface", about, parse, offered, more))
        names = [interface.name for interface in self._here]
        if names and name not in names:
            self.note(f"this machine has no interface {name} now; it has {', '.join(names)}")
        return name

    @property
    def here(self) -> list[machine.Interface]:
        """The interfaces of this machine, those with an address first."""
        return sorted(self._here, key=lambda interface: not interface.subnets)


def _width() -> int:
    return min(WIDEST, get_terminal_size().columns)

"""Asks the questions of `sluice new`, one after another; `back` goes to the one before, `?` tells more, `quit` ends."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import click

from wily_sluice.outside import machine
from wily_sluice.plan.file.addresses import looks_like_address
from wily_sluice.plan.model import UNMEASURED
from wily_sluice.plan.start.answers import LineAnswer
from wily_sluice.plan.start.kinds import LINE_KINDS
from wily_sluice.plan.start.ranking import PURPOSES
from wily_sluice.plan.start.write import arithmetic
from wily_sluice.units import DIRECTIONS, format_rate, format_share, parse_rate

GUESTS_PART = 20  # each guest is offered a twentieth of the line
MOST_LINES, MOST_NETWORKS = 8, 32

Answers = dict[str, Any]
Question = Callable[[Answers], None]


class _Back(Exception):  # not an error: the person wants the question before
    pass


def ask(prompt: str, about: str, parse: Callable[[str], Any], default: str | None = None, more: str = "") -> Any:
    """One question, with a line of what it is about. What `parse` refuses with a ValueError is asked again."""
    click.echo()
    click.secho(about, dim=True)
    while True:
        words = click.prompt(prompt, default=default, show_default=bool(default), prompt_suffix=" > ").strip()
        if words.lower() in ("back", "b"):
            raise _Back
        if words.lower() in ("quit", "q"):
            raise click.Abort
        if words == "?":
            click.echo(f"{more or about} `back` returns to the question before, `quit` ends; nothing is written yet.")
            continue
        try:
            return parse(words)
        except ValueError as error:
            click.echo(f"{error}")


def interview(answers: Answers) -> None:
    """Ask for all that is not answered yet."""
    questions: list[Question] = [
        one for key, one in _QUESTIONS.items() if key not in answers and key not in _answered_with(answers)
    ]
    click.echo(
        "A plan in a few questions. `?` tells more, `back` returns, `quit` ends; nothing is written until the end."
    )
    index = 0
    while index < len(questions):
        try:
            questions[index](answers)
            index += 1
        except _Back:
            index = max(0, index - 1)


def _answered_with(answers: Answers) -> set[str]:
    """Questions that others answer: who is held back, where some is named; when, where nobody is."""
    return {"held back"} if {"guests", "host", "alike"} & set(answers) else set()


def _text(words: str) -> str:
    if not words:
        raise ValueError("write a name")
    return words


def _ask_site(answers: Answers) -> None:
    answers["site"] = ask("name of the site", "What shall the plan be called?", _text, answers.get("site", "Home"))


def _ask_timezone(answers: Answers) -> None:
    from wily_sluice.plan.file.values import parse_timezone

    about = "Schedules follow the clock on the wall: in which time zone?"
    answers["timezone"] = ask("time zone", about, parse_timezone, answers.get("timezone") or machine.timezone())


def _ask_lines(answers: Answers) -> None:
    found = machine.interfaces()
    leading = [one.name for one in found if one.default]
    others = [one.name for one in found if not one.default]
    lines: Answers = {}
    while len(lines) < MOST_LINES:
        nth = "the line" if not lines else "the next line"
        kind = _ask_kind(nth)
        name = ask(
            "name", f"A short name for {nth}, without spaces.", _new_name(lines), _free(kind.partition("-")[0], lines)
        )
        here = [one for one in leading if one not in _interfaces(lines)]
        listed = ", ".join([*leading, *others]) or "none was found"
        about = f"Through which interface of this machine does it go? Here: {listed}."
        interface = ask("interface", about, _text, here[0] if here else None)
        lines[name] = {"interface": interface, "kind": kind, **_ask_rates(kind)}
        _show_arithmetic(lines[name])
        if not _yes("another line", "Is there a second line, such as a mobile one for when this one fails?"):
            break
    if len(lines) > 1:
        _ask_probes(lines)
    answers["uplinks"] = lines


def _ask_probes(lines: Answers) -> None:
    leading = list(lines)[::2]  # those that another stands in for
    names = " and ".join(leading)
    about = (
        f"When {names} fails, the link to the modem often stays up. Which remotes always answer, such as your "
        "provider's name servers? Addresses with commas between; Enter alone if you know none."
    )
    more = "The gate asks them every second; when none answers, the other line takes over."
    if remotes := ask("remotes that answer", about, _remotes, "", more):
        for name in leading:
            lines[name]["probe"] = remotes


def _remotes(words: str) -> list[str]:
    from wily_sluice.plan.file.values import parse_remotes

    return list(parse_remotes(tuple(word.strip() for word in words.split(",") if word.strip())))


def _ask_kind(nth: str) -> str:
    names = list(LINE_KINDS)
    click.echo()
    for number, kind in enumerate(LINE_KINDS.values(), 1):
        click.echo(f"  {number}  {kind.words}")

    def parse(words: str) -> str:
        if words.isascii() and words.isdigit() and 1 <= int(words) <= len(names):
            return names[int(words) - 1]
        if words in names:
            return words
        raise ValueError(f"write a number from 1 to {len(names)}")

    more = "The kind decides what the line adds to each packet, and how much of its rate is left free."
    return str(ask("kind", f"What kind is {nth}?", parse, "1", more))


def _rates(words: str) -> dict[str, str]:
    """`180/24`: Mbit/s down and up, or with units."""
    parts = (
        [part.strip() for part in words.split("/")]
        if "bit" not in words and "B" not in words
        else [part.strip() for part in words.replace(" / ", "|").replace(",", "|").split("|")]
    )
    if len(parts) != 2 or not all(parts):
        raise ValueError("write down and up, in Mbit/s: 180/24; or with units: 180 Mbit/s, 24 Mbit/s")
    rates = [f"{part} Mbit/s" if part.replace(".", "", 1).isdigit() else part for part in parts]
    return {way: format_rate(parse_rate(rate)) for way, rate in zip(("down", "up"), rates, strict=True)}


def _ask_rates(kind: str) -> Answers:
    found: Answers = {}
    about = "What rate was advertised, down/up in Mbit/s? Enter alone if you do not know."
    if sold := ask("advertised", about, lambda words: _rates(words) if words else None, ""):
        found["advertised"] = sold
    about = (
        "What did the line measure, down/up in Mbit/s, with nothing else on it? The plan goes by this, since what is "
        "above it queues in the modem."
    )
    if sold:
        about += f" Enter alone if nobody has measured: then {format_share(UNMEASURED)} of the advertised is taken."

    def measured(words: str) -> Any:
        if not words and not sold:
            raise ValueError("one of the two is needed: measure the line, or write what was advertised")
        return _rates(words) if words else None

    if own := ask("measured", about, measured, ""):
        found["measured"] = own
    return found


def _show_arithmetic(line: Answers) -> None:
    answer = LineAnswer.model_validate(line)
    for way in ("down", "up"):
        click.secho(f"  {way}: {arithmetic(answer, way)}", fg="cyan")
    click.secho(f"  headroom: {LINE_KINDS[line['kind']].why}; packets then queue here, in order", fg="cyan")


def _ask_networks(answers: Answers) -> None:
    taken = _interfaces(answers["uplinks"])
    found = [one for one in machine.interfaces() if one.name not in taken and not one.default]
    networks: Answers = {}
    while len(networks) < MOST_NETWORKS:
        free = [one for one in found if one.name not in _interfaces(networks)]
        offer = free[0] if free else None
        listed = "; ".join(f"{one.name} with {', '.join(one.subnets) or 'no address'}" for one in free)
        about = f"Behind which interface are hosts? Here: {listed}." if listed else "Behind which interface are hosts?"
        interface = ask("interface", about, _text, offer.name if offer else None)
        subnets = next((one.subnets for one in found if one.name == interface), ())
        about = "The subnets of these hosts, IPv4 and IPv6, with commas between."
        written = ask("subnets", about, _subnets, ", ".join(subnets) or None)
        usual = _free("home" if not networks else "guests", networks)
        name = ask("name", "A short name for this network, such as home, office or guests.", _new_name(networks), usual)
        networks[name] = {"interface": interface, "subnets": written}
        if not _yes("another network", "Is there another network, such as one for guests?", bool(free[1:])):
            break
    answers["networks"] = networks


def _subnets(words: str) -> list[str]:
    from wily_sluice.plan.file.addresses import parse_prefix

    return [str(parse_prefix(word.strip())) for word in words.split(",")]


def _ask_first(answers: Answers) -> None:
    click.echo()
    for name, one in PURPOSES.items():
        click.echo(f"  {name:<10} {one.words}")

    def parse(words: str) -> list[str]:
        named = words.replace(",", " ").lower().split()
        for word in named:
            if word not in PURPOSES:
                raise ValueError(f"there is no “{word}”: use {', '.join(PURPOSES)}")
        if len(set(named)) < len(named):
            raise ValueError("name each once")
        return named

    about = "What matters most? Name some in order, with spaces between; the others follow."
    more = "Each gets a guarantee for its place, so that nothing starves. Calls, meetings and games also go first."
    answers["first"] = ask("first", about, parse, "calls meetings play web", more)


def _ask_held_back(answers: Answers) -> None:
    for key in ("guests", "host", "alike"):
        answers.pop(key, None)
    networks = list(answers["networks"])
    if len(networks) > 1 and _yes(
        "hold back guests", "Shall each host of one network have only so much?", "guests" in networks
    ):
        usual = "guests" if "guests" in networks else networks[-1]
        name = ask("network", f"Which one? {', '.join(networks)}", _one_of(networks), usual)
        answers["guests"] = {"network": name, **_ask_cap(answers, "Each guest may have at most, down/up in Mbit/s?")}
    if _yes("hold back one host", "Is there one host that takes too much?"):
        about = "Its hardware address (02:00:5e:10:00:07) stays the same; an IP address may change."
        addresses = ask("address", about, _addresses)
        answers["host"] = {"addresses": addresses, **_ask_cap(answers, "It may have at most, down/up in Mbit/s?")}
    about = "Shall everyone have an equal part, however many downloads each runs?"
    answers["alike"] = _yes("everyone alike", about, True)
    if "guests" in answers or "host" in answers:
        about = (
            "When are they held back? Windows such as mon-fri 08:00-18:30, with commas between; Enter alone: always."
        )
        answers["when"] = ask("when", about, _windows, "")


def _ask_cap(answers: Answers, about: str) -> dict[str, str]:
    line = LineAnswer.model_validate(next(iter(answers["uplinks"].values())))
    parts = {way: max(0.1, round((line.rate(way) or 0) / GUESTS_PART / 1e6, 1)) for way in DIRECTIONS}
    return dict(ask("at most", about, _rates, f"{parts['down']:g}/{parts['up']:g}"))


def _addresses(words: str) -> list[str]:
    from wily_sluice.plan.file.addresses import parse_hardware

    found = [word.strip() for word in words.split(",") if word.strip()]
    for word in found:
        if parse_hardware(word) is None and not looks_like_address(word):
            raise ValueError(f"“{word}” is not an address: write it like 02:00:5e:10:00:07 or 192.0.2.9")
    if not found:
        raise ValueError("write an address")
    return found


def _windows(words: str) -> list[str]:
    from wily_sluice.plan.schedules.schedule import Entries

    entries, found = Entries(), [word.strip() for word in words.split(",") if word.strip()]
    for word in found:
        entries.add(word)
    return found


def _interfaces(parts: Answers) -> set[str]:
    return {str(part["interface"]) for part in parts.values()}


def _free(name: str, taken: Answers) -> str:
    return next(one for one in (name, *(f"{name}-{number}" for number in range(2, 99))) if one not in taken)


def _new_name(taken: Answers) -> Callable[[str], str]:
    def parse(words: str) -> str:
        from wily_sluice.plan.file.words import parse_name

        if words in taken:
            raise ValueError(f"“{words}” is used already")
        return parse_name(words)

    return parse


def _one_of(names: list[str]) -> Callable[[str], str]:
    def parse(words: str) -> str:
        if words not in names:
            raise ValueError(f"there is no “{words}”: use {', '.join(names)}")
        return words

    return parse


def _yes(prompt: str, about: str, default: bool = False) -> bool:
    def parse(words: str) -> bool:
        if words.lower() not in ("y", "yes", "n", "no"):
            raise ValueError("write y or n")
        return words.lower().startswith("y")

    return bool(ask(f"{prompt}? y/n", about, parse, "y" if default else "n"))


_QUESTIONS: dict[str, Question] = {
    "site": _ask_site,
    "timezone": _ask_timezone,
    "uplinks": _ask_lines,
    "networks": _ask_networks,
    "first": _ask_first,
    "held back": _ask_held_back,
}


def missing(answers: Answers) -> Iterator[str]:
    """The options that are needed where nobody can be asked."""
    yield from (option for key, option in (("uplinks", "--uplink"), ("networks", "--network")) if key not in answers)

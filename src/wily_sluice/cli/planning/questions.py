"""The questions of `sluice new`, in their order."""

from __future__ import annotations

from collections.abc import Callable
from ipaddress import ip_address, ip_network
from typing import Final

from wily_sluice.cli.planning.interview import Answers, Interview
from wily_sluice.outside import machine
from wily_sluice.plan.file.addresses import looks_like_address
from wily_sluice.plan.model import UNMEASURED
from wily_sluice.plan.start.answers import LineAnswer
from wily_sluice.plan.start.kinds import LINE_KINDS
from wily_sluice.plan.start.ranking import PURPOSES, purpose
from wily_sluice.plan.start.write import arithmetic, usable
from wily_sluice.units import DIRECTIONS, Direction, format_rate, format_share, parse_rate

GUESTS_PART: Final = 20  # each guest is offered a twentieth of the line
MOST_LINES, MOST_NETWORKS = 8, 32


def questions(to: Interview, answers: Answers) -> None:
    """Ask for everything that `answers` does not have yet."""
    if "site" not in answers:
        more = "It stands in reports, in `sluice watch` and at the head of the plan."
        answers["site"] = to.ask("name of the site", "What shall the plan be called?", _text, "Home", more)
    if "timezone" not in answers:
        _ask_timezone(to, answers)
    if "uplinks" not in answers:
        answers["uplinks"] = _ask_lines(to)
    if "networks" not in answers:
        answers["networks"] = _ask_networks(to, _interfaces(answers["uplinks"]))
    if "first" not in answers:
        _ask_first(to, answers)
    if "films" not in answers:
        _ask_films(to, answers)
    if not {"guests", "host", "alike"} & set(answers):
        _ask_held_back(to, answers)


def _text(words: str) -> str:
    if not words:
        raise ValueError("write a name")
    return words


def _ask_timezone(to: Interview, answers: Answers) -> None:
    from wily_sluice.plan.file.values import parse_timezone

    about = "Schedules follow the clock on the wall: in which time zone?"
    more = "Write a name of the time zone database, such as Europe/Dublin or UTC."
    answers["timezone"] = to.ask("time zone", about, parse_timezone, machine.timezone(), more)


def _ask_lines(to: Interview) -> Answers:
    lines: Answers = {}
    while len(lines) < MOST_LINES:
        nth = "the line" if not lines else "the next line"
        kind = _ask_kind(to, nth)
        about = f"A short name for {nth}, without spaces."
        more = "Rules, tables and figures use this name."
        name = to.ask("name", about, _new_name(lines), _free(kind.partition("-")[0], lines), more)
        taken = _interfaces(lines)
        free = sorted((one for one in to.here if one.name not in taken), key=lambda one: not one.default)
        listed = ", ".join(f"{one.name} (to the internet)" if one.default else one.name for one in free) or "none"
        offered = free[0].name if free and free[0].default else None
        about = f"Through which interface of this machine does {nth} go? Found here: {listed}."
        interface = to.interface(about, offered, taken)
        lines[name] = {"interface": interface, "kind": kind, **_ask_rates(to)}
        _show_arithmetic(to, lines[name])
        about = "Is there a second line, such as a mobile one for when this one fails?"
        more = "With a second line, the plan gets a route: the first line that is up carries everything."
        if not to.yes("another line", about, more=more):
            break
    if len(lines) > 1:
        _ask_probes(to, lines)
    return lines


def _ask_probes(to: Interview, lines: Answers) -> None:
    leading = list(lines)[::2]  # those that another stands in for
    about = (
        f"When {' and '.join(leading)} fails, the link to the modem often stays up. Which remotes always answer, such "
        "as your provider's name servers? Write addresses with commas between, or press Enter to skip."
    )
    more = "The gate sends them an echo every second; when none answers, the other line takes over."
    if remotes := to.ask("remotes that answer", about, _remotes, "", more):
        for name in leading:
            lines[name]["probe"] = remotes


def _remotes(words: str) -> list[str]:
    from wily_sluice.plan.file.values import parse_remotes

    return list(parse_remotes(tuple(_listed(words))))


def _listed(words: str) -> list[str]:
    return [word.strip() for word in words.split(",") if word.strip()]


def _ask_kind(to: Interview, nth: str) -> str:
    names = list(LINE_KINDS)
    to.say("")
    for number, kind in enumerate(LINE_KINDS.values(), 1):
        to.say(f"  {number}  {kind.words}")

    def parse(words: str) -> str:
        if words.isascii() and words.isdigit() and 1 <= int(words) <= len(names):
            return names[int(words) - 1]
        if words in names:
            return words
        raise ValueError(f"write a number from 1 to {len(names)}")

    more = "The kind decides what the line adds to each packet, and how much of its rate is left free."
    return str(to.ask("kind", f"What kind is {nth}?", parse, "1", more))


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


def _ask_rates(to: Interview) -> Answers:
    found: Answers = {}
    about = "What rate was advertised, down/up in Mbit/s? Press Enter to skip."
    more = "It is in the contract. `sluice check` compares it with what was measured."
    if sold := to.ask("advertised", about, lambda words: _rates(words) if words else None, "", more):
        found["advertised"] = sold
    about = (
        "What did the line measure, down/up in Mbit/s, with nothing else on it? The plan uses this rate, because "
        "anything above it queues in the modem."
    )
    if sold:
        part = format_share(UNMEASURED)
        about += f" Press Enter if it was never measured: the plan then uses {part} of what was advertised."
    more = (
        "`sluice gauge line HOST` measures it to a machine beyond the line that runs `sluice gauge serve`, and "
        "`--write` puts the result into the plan later."
    )

    def measured(words: str) -> dict[str, str] | None:
        if not words and not sold:
            raise ValueError("one of the two is needed: measure with `sluice gauge line HOST`, or write the contract's")
        return _rates(words) if words else None

    if own := to.ask("measured", about, measured, "", more):
        found["measured"] = own
        over = [way for way in own if sold and parse_rate(own[way]) > parse_rate(sold[way])]
        if over:
            to.note(f"more was measured {' and '.join(over)} than advertised. Are both written as down/up?")
    return found


def _show_arithmetic(to: Interview, line: Answers) -> None:
    answer = LineAnswer.model_validate(line)
    ways: tuple[Direction, ...] = ("down", "up")
    for way in ways:
        to.say(f"  {way}: {arithmetic(answer, way)}", fg="cyan")
    to.say(f"  headroom: {LINE_KINDS[line['kind']].why}; packets then queue here, in order", fg="cyan")


def _ask_networks(to: Interview, taken: set[str]) -> Answers:
    networks: Answers = {}
    while len(networks) < MOST_NETWORKS:
        used = taken | _interfaces(networks)
        free = [one for one in to.here if one.name not in used and not one.default]
        offered = free[0].name if free and free[0].subnets else None
        listed = "; ".join(f"{one.name} with {', '.join(one.subnets) or 'no address'}" for one in free)
        about = "Behind which interface are hosts?" + (f" Found here: {listed}." if listed else "")
        interface = to.interface(about, offered, used)
        subnets = next((one.subnets for one in free if one.name == interface), ())
        about = "The subnets of these hosts, IPv4 and IPv6, with commas between."
        more = "A subnet is an address range with its prefix length: 192.0.2.0/24 has 254 hosts."
        before = [subnet for network in networks.values() for subnet in network["subnets"]]
        written = to.ask("subnets", about, _subnets(before), ", ".join(subnets) or None, more)
        usual = _free("home" if not networks else "guests", networks)
        about = "A short name for this network, such as home, office or guests."
        more = "Rules and limiters use this name. Guests need a network of their own to be told from the others."
        name = to.ask("name", about, _new_name(networks), usual, more)
        networks[name] = {"interface": interface, "subnets": written}
        if not to.yes(
            "another network", "Is there another network, such as one for guests?", any(one.subnets for one in free[1:])
        ):
            break
    return networks


def _subnets(before: list[str]) -> Callable[[str], list[str]]:
    def parse(words: str) -> list[str]:
        from wily_sluice.plan.file.addresses import parse_prefix

        found = [parse_prefix(word) for word in _listed(words)]
        if not found:
            raise ValueError("write a subnet, such as 192.0.2.0/24")
        for subnet in found:
            for other in map(ip_network, before):
                if subnet.version == other.version and subnet.overlaps(other):
                    raise ValueError(f"{subnet} overlaps {other} of another network: give each its own subnet")
        return [str(subnet) for subnet in found]

    return parse


def _ask_first(to: Interview, answers: Answers) -> None:
    to.say("")
    for name, one in PURPOSES.items():
        to.say(f"  {name:<10} {one.words}")

    def parse(words: str) -> list[str]:
        named = [purpose(word) for word in words.replace(",", " ").split()]
        if len(set(named)) < len(named):
            raise ValueError("name each once")
        return named

    about = "What matters most? Name some in order, with spaces between; the others follow."
    more = "Each gets a guarantee for its place, so that nothing starves. Calls, meetings and games also go first."
    answers["first"] = to.ask("first", about, parse, "calls meetings play web", more)


def _ask_films(to: Interview, answers: Answers) -> None:
    from wily_sluice.plan.file.traffic_words import parse_host_name

    about = (
        "Which names do your films and music come from, such as films.example? Write names with commas between, or "
        "press Enter to skip."
    )
    more = (
        "Films look like any other download; only their names tell them apart. `*.films.example` means all names below "
        "it. `sluice watch` shows the names in use, and `sluice edit service` adds some later."
    )
    found = to.ask("films", about, lambda words: [parse_host_name(word) for word in _listed(words)], "", more)
    if found:
        answers["films"] = found


def _ask_held_back(to: Interview, answers: Answers) -> None:
    networks = list(answers["networks"])
    if len(networks) > 1:
        about = "Limit each host of one network, such as guests? Its traffic then also comes last, at all hours."
        if to.yes("hold back guests", about, "guests" in networks, "A limiter caps each of these hosts."):
            usual = "guests" if "guests" in networks else networks[-1]
            name = to.ask("network", f"Which one? {', '.join(networks)}", _one_of(networks), usual)
            about = "Each guest may have at most, down/up in Mbit/s?"
            answers["guests"] = {"network": name, **_ask_cap(to, answers, about)}
    more = "A limiter caps this host alone; everything else it does stays the same."
    if to.yes("hold back one host", "Is there one host that takes too much?", more=more):
        about = "Its hardware address (02:00:5e:10:00:07) stays the same; an IP address may change."
        more = "`ip neighbour` lists the hosts in reach, with both addresses."
        addresses = to.ask("address", about, _addresses(answers["networks"]), None, more)
        answers["host"] = {"addresses": addresses, **_ask_cap(to, answers, "It may have at most, down/up in Mbit/s?")}
    about = "Shall everyone have an equal part, however many downloads each runs?"
    more = "Queues then take turns among hosts. Otherwise they take turns among conversations."
    answers["alike"] = to.yes("everyone alike", about, True, more)
    if "guests" in answers or "host" in answers:
        about = "When are they held back? Windows such as mon-fri 08:00-18:30, with commas between; Enter means always."
        more = "Other windows: 22:00-06:00, sat 09:00-13:00, not 2026-12-25."
        answers["when"] = to.ask("when", about, _windows, "", more)


def _ask_cap(to: Interview, answers: Answers, about: str) -> dict[str, str]:
    lines = [LineAnswer.model_validate(line) for line in answers["uplinks"].values()]
    parts = {way: max(0.1, round((lines[0].rate(way) or 0) / GUESTS_PART / 1e6, 1)) for way in DIRECTIONS}

    def parse(words: str) -> dict[str, str]:
        rates = _rates(words)
        for way in DIRECTIONS:
            most = sum(usable(line, way) for line in lines)
            if parse_rate(rates[way]) >= most:
                raise ValueError(f"{rates[way]} {way} limits nothing: the plan has {format_rate(most)} {way} in all")
        return rates

    more = "A call takes 0.1 Mbit/s each way, a film 3 to 15 Mbit/s down."
    return dict(to.ask("at most", about, parse, f"{parts['down']:g}/{parts['up']:g}", more))


def _addresses(networks: Answers) -> Callable[[str], list[str]]:
    def parse(words: str) -> list[str]:
        from wily_sluice.plan.file.addresses import parse_hardware

        subnets = [ip_network(subnet) for network in networks.values() for subnet in network["subnets"]]
        found = _listed(words)
        for word in found:
            if parse_hardware(word) is not None:
                continue
            if not looks_like_address(word):
                raise ValueError(f"“{word}” is not an address: write it like 02:00:5e:10:00:07 or 192.0.2.9")
            address = word.partition("/")[0].partition("-")[0]
            if not any(ip_address(address) in subnet for subnet in subnets):
                raise ValueError(f"{word} is in none of your networks: {', '.join(map(str, subnets))}")
        if not found:
            raise ValueError("write an address")
        return found

    return parse


def _windows(words: str) -> list[str]:
    from wily_sluice.plan.schedules.schedule import Entries

    entries, found = Entries(), _listed(words)
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

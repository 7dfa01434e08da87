"""The questions of `sluice new`, in their order."""

from __future__ import annotations

from collections.abc import Callable
from ipaddress import ip_address, ip_network
from typing import Final

from wily_sluice.cli.planning.interview import Answers, Interview
from wily_sluice.outside import machine
from wily_sluice.plan.file.words import looks_like_address
from wily_sluice.plan.model import UNMEASURED
from wily_sluice.plan.start.answers import LINE_KINDS, PURPOSES, LineAnswer, purpose
from wily_sluice.plan.start.write import arithmetic, usable
from wily_sluice.units import DIRECTIONS, Direction, exact_rate, format_rate, format_share, parse_rate

GUESTS_PART: Final = 20  # each guest is offered a twentieth of the line
MOST_LINES, MOST_NETWORKS = 8, 32


def questions(to: Interview, answers: Answers) -> None:
    """Ask for everything that `answers` does not have yet."""
    if "site" not in answers:
        more = "Reports, `sluice watch` and the plan itself show this name."
        answers["site"] = to.ask("name of the site", "What is the name of the site?", _text, "Home", more)
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

    about = "Which time zone is the site in? Schedules use its local time."
    more = "Write a name from the time zone database, such as Europe/Dublin or UTC."
    answers["timezone"] = to.ask("time zone", about, parse_timezone, machine.timezone(), more)


def _ask_lines(to: Interview) -> Answers:
    lines: Answers = {}
    while len(lines) < MOST_LINES:
        nth = "the uplink" if not lines else "the next uplink"
        kind = _ask_kind(to, nth)
        about = f"A short name for {nth}, without spaces."
        more = "Rules and tables use this name."
        name = to.ask("name", about, _new_name(lines), _free(kind.partition("-")[0], lines), more)
        taken = _interfaces(lines)
        free = sorted(
            (interface for interface in to.here if interface.name not in taken),
            key=lambda interface: not interface.default,
        )
        listed = (
            ", ".join(
                f"{interface.name} (to the internet)" if interface.default else interface.name for interface in free
            )
            or "none"
        )
        offered = free[0].name if free and free[0].default else None
        about = f"Which interface of this machine is {nth} on? Found: {listed}."
        interface = to.interface(about, offered, taken)
        lines[name] = {"interface": interface, "kind": kind, **_ask_rates(to)}
        _show_arithmetic(to, lines[name])
        about = "Is there another uplink, such as a mobile one as a backup?"
        more = "The plan then gets a route: all traffic uses the first uplink that works."
        if not to.yes("another uplink", about, more=more):
            break
    if len(lines) > 1:
        _ask_probes(to, lines)
    return lines


def _ask_probes(to: Interview, lines: Answers) -> None:
    leading = list(lines)[::2]  # those that another stands in for
    about = (
        f"Which remotes always answer pings over {' and '.join(leading)}, such as your provider's DNS servers? They "
        "reveal a failure beyond the modem. Separate addresses with commas, or press Enter to skip."
    )
    more = "The gate pings them every second. If none answers, the other uplink takes over."
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

    more = "The kind decides the per-packet overhead, and how much of the rate to leave free."
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
    return {way: exact_rate(parse_rate(rate)) for way, rate in zip(("down", "up"), rates, strict=True)}


def _ask_rates(to: Interview) -> Answers:
    answers: Answers = {}
    about = "What rate was advertised, down/up in Mbit/s? Press Enter to skip."
    more = "It is in the contract. `sluice check` compares it with the measured rate."
    if sold := to.ask("advertised", about, lambda words: _rates(words) if words else None, "", more):
        answers["advertised"] = sold
    about = (
        "What rate did you measure on the idle line, down/up in Mbit/s? The plan uses this rate, because "
        "anything faster queues in the modem."
    )
    if sold:
        part = format_share(UNMEASURED)
        about += f" Press Enter if you have not measured it: the plan then uses {part} of the advertised rate."
    more = (
        "`sluice gauge line HOST --write` measures it later and updates the plan. HOST is a machine beyond the line "
        "that runs `sluice gauge serve`."
    )

    def measured(words: str) -> dict[str, str] | None:
        if not words and not sold:
            raise ValueError(
                "give one of the two rates: measure with `sluice gauge line HOST`, or look in the contract"
            )
        return _rates(words) if words else None

    if own := to.ask("measured", about, measured, "", more):
        answers["measured"] = own
        over = [way for way in own if sold and parse_rate(own[way]) > parse_rate(sold[way])]
        if over:
            to.note(
                f"the measured rate {' and '.join(over)} is above the advertised one. Did you write both as down/up?"
            )
    return answers


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
        free = [interface for interface in to.here if interface.name not in used and not interface.default]
        offered = free[0].name if free and free[0].subnets else None
        listed = "; ".join(
            f"{interface.name} with {', '.join(interface.subnets) or 'no address'}" for interface in free
        )
        about = "Which interface is a network of hosts on?" + (f" Found: {listed}." if listed else "")
        interface = to.interface(about, offered, used)
        subnets = next((each.subnets for each in free if each.name == interface), ())
        about = "Which subnets does this network have? Separate IPv4 and IPv6 subnets with commas."
        more = "A subnet is an address range with its prefix length: 192.0.2.0/24 has 254 hosts."
        before = [subnet for network in networks.values() for subnet in network["subnets"]]
        written = to.ask("subnets", about, _subnets(before), ", ".join(subnets) or None, more)
        usual = _free("home" if not networks else "guests", networks)
        about = "A short name for this network, such as home, office or guests."
        more = "Rules and limiters use this name. Guests need a separate network so that the gate can recognise them."
        name = to.ask("name", about, _new_name(networks), usual, more)
        networks[name] = {"interface": interface, "subnets": written}
        if not to.yes(
            "another network",
            "Is there another network, such as one for guests?",
            any(interface.subnets for interface in free[1:]),
        ):
            break
    return networks


def _subnets(before: list[str]) -> Callable[[str], list[str]]:
    def parse(words: str) -> list[str]:
        from wily_sluice.plan.file.words import parse_prefix

        prefixes = [parse_prefix(word) for word in _listed(words)]
        if not prefixes:
            raise ValueError("write a subnet, such as 192.0.2.0/24")
        for subnet in prefixes:
            for other in map(ip_network, before):
                if subnet.version == other.version and subnet.overlaps(other):
                    raise ValueError(f"{subnet} overlaps {other} of another network: give each its own subnet")
        return [str(subnet) for subnet in prefixes]

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

    about = "What matters most? List some in order, separated by spaces; the others follow."
    more = (
        "Each gets a guarantee by its rank, so that none starves. Calls, meetings and games also have first priority."
    )
    answers["first"] = to.ask("first", about, parse, "calls meetings play web", more)


def _ask_films(to: Interview, answers: Answers) -> None:
    from wily_sluice.plan.file.traffic_words import parse_host_name

    about = (
        "Which host names do your films and music come from, such as films.example? Separate names with commas, or "
        "press Enter to skip."
    )
    more = (
        "Without a name, a film looks like any other download. `*.films.example` means all names below "
        "films.example. `sluice watch` shows the names in use, and `sluice edit service` adds them later."
    )
    names = to.ask("films", about, lambda words: [parse_host_name(word) for word in _listed(words)], "", more)
    if names:
        answers["films"] = names


def _ask_held_back(to: Interview, answers: Answers) -> None:
    networks = list(answers["networks"])
    if len(networks) > 1:
        about = (
            "Limit each host of one network, such as guests? Its traffic then also has the last priority, at all hours."
        )
        if to.yes("limit guests", about, "guests" in networks, "A limiter caps each host."):
            usual = "guests" if "guests" in networks else networks[-1]
            name = to.ask("network", f"Which one? {', '.join(networks)}", _one_of(networks), usual)
            about = "What is the limit for each guest, down/up in Mbit/s?"
            answers["guests"] = {"network": name, **_ask_cap(to, answers, about)}
    more = "A limiter caps the rate of this host only."
    if to.yes("limit one host", "Is there one host to limit, because it uses too much?", more=more):
        about = "What is its address? A hardware address (02:00:5e:10:00:07) never changes; an IP address may."
        more = "`ip neighbour` lists the hosts on your networks with both addresses."
        addresses = to.ask("address", about, _addresses(answers["networks"]), None, more)
        answers["host"] = {"addresses": addresses, **_ask_cap(to, answers, "What is its limit, down/up in Mbit/s?")}
    about = "Should all hosts share equally, no matter how many downloads each one runs?"
    more = "Hosts then take turns in each queue; otherwise conversations do."
    answers["alike"] = to.yes("hosts share equally", about, True, more)
    if "guests" in answers or "host" in answers:
        about = (
            "When do the limits apply? Write windows such as mon-fri 08:00-18:30, separated by commas. Press Enter for "
            "always."
        )
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
                raise ValueError(f"{rates[way]} {way} is no limit: the plan has {format_rate(most)} {way} in total")
        return rates

    more = "A call takes 0.1 Mbit/s each way, a film 3 to 15 Mbit/s down."
    return dict(to.ask("at most", about, parse, f"{parts['down']:g}/{parts['up']:g}", more))


def _addresses(networks: Answers) -> Callable[[str], list[str]]:
    def parse(words: str) -> list[str]:
        from wily_sluice.plan.file.words import parse_hardware

        subnets = [ip_network(subnet) for network in networks.values() for subnet in network["subnets"]]
        names = _listed(words)
        for word in names:
            if parse_hardware(word) is not None:
                continue
            if not looks_like_address(word):
                raise ValueError(f"“{word}” is not an address: write it like 02:00:5e:10:00:07 or 192.0.2.9")
            address = word.partition("/")[0].partition("-")[0]
            if not any(ip_address(address) in subnet for subnet in subnets):
                raise ValueError(f"{word} is in none of your networks: {', '.join(map(str, subnets))}")
        if not names:
            raise ValueError("write an address")
        return names

    return parse


def _windows(words: str) -> list[str]:
    from wily_sluice.plan.schedules.schedule import Entries

    entries, names = Entries(), _listed(words)
    for word in names:
        entries.add(word)
    return names


def _interfaces(parts: Answers) -> set[str]:
    return {str(part["interface"]) for part in parts.values()}


def _free(name: str, taken: Answers) -> str:
    return next(
        candidate for candidate in (name, *(f"{name}-{number}" for number in range(2, 99))) if candidate not in taken
    )


def _new_name(taken: Answers) -> Callable[[str], str]:
    def parse(words: str) -> str:
        from wily_sluice.plan.file.words import parse_name

        if words in taken:
            raise ValueError(f"“{words}” is in use already")
        return parse_name(words)

    return parse


def _one_of(names: list[str]) -> Callable[[str], str]:
    def parse(words: str) -> str:
        if words not in names:
            raise ValueError(f"there is no “{words}”: use {', '.join(names)}")
        return words

    return parse

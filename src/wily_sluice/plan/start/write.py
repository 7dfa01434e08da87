"""Writes a first plan: YAML with a comment at every figure that says where it comes from.

The same answers give the same text, byte for byte.
"""

from collections.abc import Iterator
from math import ceil
from typing import Any, Final

from wily_sluice.engine.packet import LARGEST_PACKET, Framing
from wily_sluice.plan.edit.text import flow
from wily_sluice.plan.file.framings import parse_stack
from wily_sluice.plan.model import UNMEASURED
from wily_sluice.plan.start.answers import (
    ACKS_PRIORITY,
    BASE,
    BASE_CAP,
    GUESTS,
    GUESTS_PRIORITY,
    LINE_KINDS,
    PURPOSES,
    SHARES,
    AnswersEntry,
    LineAnswer,
    LineKind,
    ranked,
)
from wily_sluice.units import DIRECTIONS, Direction, Rate, exact_rate, exact_share, format_rate, format_share

CALL: Final[Rate] = 87_200  # bit/s of one call
CALLS: Final = 2  # that fit into the guarantee of calls on any line
ACK, ACKED = 52, 2  # bytes of an acknowledgement, and full packets that it is for
MOST_ACKS: Final = 45  # percent that acknowledgements are guaranteed
FEW: Final = 3  # hosts that fill a line
COMMENT: Final = 52  # column of comments


def usable(line: LineAnswer, way: Direction) -> Rate:
    """The usable rate of an uplink, in bit/s."""
    kind = LINE_KINDS[line.kind]
    return round((line.rate(way) or 0) * (1 - (kind.up if way == "up" else kind.down) / 100))


def arithmetic(line: LineAnswer, way: Direction) -> str:
    """How a rate came about: `180 Mbit/s measured, less 5% headroom: 171 Mbit/s`."""
    kind, rate = LINE_KINDS[line.kind], line.rate(way) or 0
    percent = kind.up if way == "up" else kind.down
    measured = line.measured.of(way) if line.measured is not None else None
    words = f"{exact_rate(rate)} measured"
    if measured is None:
        words = f"not measured, so {exact_share(UNMEASURED)} of the advertised rate: {exact_rate(rate)}"
    return f"{words}, less {percent}% headroom: {format_rate(usable(line, way))}"


def _framing(kind: LineKind) -> Framing:
    return parse_stack(kind.framing).framing


def acks(answers: AnswersEntry, way: Direction) -> int:
    """The percent of a direction that acknowledgements take when the other is full, on the worst of the lines."""
    other: Direction = "down" if way == "up" else "up"
    parts = []
    for line in answers.uplinks.values():
        framing = _framing(LINE_KINDS[line.kind])
        needed = usable(line, other) / framing.cost(LARGEST_PACKET) / ACKED * framing.cost(ACK)
        parts.append(needed / usable(line, way))
    return min(ceil(max(parts) * 100), MOST_ACKS)


def shares(answers: AnswersEntry) -> dict[str, int]:
    """The guarantee of each purpose, in percent; with `acks` if acknowledgements need a queue.

    They do if a queue's share of one direction is less than the acknowledgements of the other direction need when that
    queue fills it. On a full line, they would then slow it down.
    """
    shares = _shares(answers, 0)
    least = min(GUESTS, *(part for name, part in shares.items() if not PURPOSES[name].small))
    if max(acks(answers, way) for way in DIRECTIONS) <= least:
        return shares
    apart = max(acks(answers, way) for way in DIRECTIONS)
    return _shares(answers, apart) | {"acks": apart}


def _shares(answers: AnswersEntry, apart: int) -> dict[str, int]:
    left = 100 - BASE - GUESTS - apart
    slowest = min(usable(line, way) for line in answers.uplinks.values() for way in DIRECTIONS)
    shares = {}
    for name, share in zip(ranked(answers.first), SHARES, strict=True):
        least = ceil(100 * CALLS * CALL / slowest) if name == "calls" else 1
        shares[name] = min(max(least, share * left // sum(SHARES)), left // 2)
    while sum(shares.values()) > left:  # calls took more than their place gives: the others give it
        largest = max((name for name in shares if name != "calls"), key=lambda name: shares[name])
        shares[largest] -= 1
    return shares


def write_plan(answers: AnswersEntry) -> str:
    """The plan."""
    return (
        "\n".join(
            [
                *_head(answers),
                *_lines(answers),
                *_networks(answers),
                *_services(answers),
                *_hold_back(answers),
                *_tree(answers),
                *_routes(answers),
                *_rules(answers),
            ]
        )
        + "\n"
    )


def _noted(words: str, comment: str = "") -> str:
    return f"{words.ljust(COMMENT - 2)}  # {comment}" if comment else words


def _head(answers: AnswersEntry) -> Iterator[str]:
    yield f"# {answers.site}: a plan for `sluice`. Change it as you like; `sluice check` finds mistakes."
    yield ""
    yield f"site: {flow(answers.site)}"
    yield f"timezone: {answers.timezone}"


def _lines(answers: AnswersEntry) -> Iterator[str]:
    yield ""
    yield "uplinks:"
    for name, line in answers.uplinks.items():
        kind = LINE_KINDS[line.kind]
        yield _noted(f"  {name}:", kind.words)
        yield f"    interface: {flow(line.interface)}"
        for way in DIRECTIONS:
            rate = line.rate(way) or 0
            advertised = line.advertised.of(way) if line.advertised is not None else None
            words = "measured" if line.measured is not None and line.measured.of(way) is not None else ""
            words = words or f"{format_share(UNMEASURED)} of the advertised rate: measure it"
            if words == "measured" and rate == advertised:
                words = "sluice: allow measured-as-advertised it was measured"
            yield _noted(f"    {way}: {exact_rate(rate)}", f"{words}; {exact_rate(usable(line, way))} is usable")
        if line.advertised is not None:
            rates = {way: exact_rate(sold) for way in DIRECTIONS if (sold := line.advertised.of(way)) is not None}
            yield f"    advertised: {flow(rates)}"
        headroom = f"{kind.up}%" if kind.up == kind.down else f"{{up: {kind.up}%, down: {kind.down}%}}"
        yield _noted(f"    headroom: {headroom}", kind.why)
        yield _noted(f"    framing: {kind.framing}", "the per-packet overhead of the line")
        if line.probe:
            yield _noted(f"    probe: {flow(list(line.probe))}", "the uplink is down when no remote answers")


def _networks(answers: AnswersEntry) -> Iterator[str]:
    yield ""
    yield "networks:"
    for name, network in answers.networks.items():
        yield f"  {name}: {flow({'interface': network.interface, 'subnets': network.subnets})}"


def _services(answers: AnswersEntry) -> Iterator[str]:
    if answers.films:
        yield ""
        yield "services:"
        films = {"category": "streaming", "names": list(answers.films)}
        yield _noted(f"  films: {flow(films)}", "by the names you gave")


def _hold_back(answers: AnswersEntry) -> Iterator[str]:
    if answers.host is not None:
        yield ""
        yield "groups:"
        yield _noted(f"  greedy: {flow(list(answers.host.addresses))}", "the host that takes too much")
    if answers.when and (answers.guests or answers.host):
        yield ""
        yield "schedules:"
        yield f"  held-back: {flow(list(answers.when))}"
    if answers.guests is None and answers.host is None:
        return
    yield ""
    yield "limiters:"
    when = {"when": "held-back"} if answers.when else {}
    if answers.guests is not None:
        guests = answers.guests
        rates: dict[str, Any] = {way: getattr(guests, way) for way in DIRECTIONS}
        words = {
            "local": guests.network,
            "per": "host",
            **{way: exact_rate(rate) for way, rate in rates.items()},
            **when,
        }
        filling = min(-(-usable(line, way) // rates[way]) for line in answers.uplinks.values() for way in DIRECTIONS)
        if 1 < filling <= FEW:
            yield "  # A few guests could fill the line, so the limit applies only while others need it."
            yield "  # sluice: allow engage-idle guests may have the idle line"
            words["engage"] = "above 80%"
        yield f"  guest-each: {flow(words)}"
    if answers.host is not None:
        host = answers.host
        words = {"local": "greedy", **{way: exact_rate(getattr(host, way)) for way in DIRECTIONS}, **when}
        if _one_version(answers):
            yield "  # sluice: allow caps-one-version only its IPv4 address is known; a hardware address covers both"
        yield f"  greedy: {flow(words)}"


def _one_version(answers: AnswersEntry) -> bool:
    """Whether the limited host is named by its IPv4 address alone, in a network with IPv6."""
    words = answers.host.addresses if answers.host is not None else ()
    six = any(":" in subnet for network in answers.networks.values() for subnet in network.subnets)
    return six and bool(words) and not any(":" in word for word in words)


def _promise(answers: AnswersEntry, percent: int) -> str:
    line = next(iter(answers.uplinks.values()))
    rates = (f"{format_rate(float(f'{usable(line, way) * percent / 100:.3g}'))} {way}" for way in DIRECTIONS)
    return f"at least {' and '.join(rates)}"


def _tree(answers: AnswersEntry) -> Iterator[str]:
    order, parts = ranked(answers.first), shares(answers)
    small = [name for name in order if PURPOSES[name].small]
    yield ""
    yield "# A queue gets its guarantee even on a full line; others use it while the queue is idle."
    yield "# Small, urgent traffic has the first priority."
    yield "trees:"
    yield "  main:"
    yield "    queues:"
    base = f"      base: {{guarantee: {BASE}%, priority: 1, cap: {BASE_CAP}}}"
    yield _noted(base, "names and time, without which nothing begins")
    if "acks" in parts:
        needed = {way: acks(answers, way) for way in DIRECTIONS}
        words: dict[str, Any] = {
            "guarantee": {way: f"{needed[way]}%" for way in DIRECTIONS},
            "priority": ACKS_PRIORITY,
            "cap": {way: f"{min(2 * needed[way], 90)}%" for way in DIRECTIONS},
            "fair-by": "host",
        }
        yield "      # Acknowledgements have their own queue, so that uploads do not slow downloads."
        yield f"      acks: {flow(words)}"
    for name in order:
        purpose = PURPOSES[name]
        words = {"guarantee": f"{parts[name]}%"}
        if purpose.small:
            words["priority"] = small.index(name) + 1
            words["cap"] = purpose.cap
        elif purpose.late != 5:
            words["priority"] = purpose.late
        if name == "downloads":
            words["default"] = True
        if name == "downloads" or (answers.alike and not purpose.small):
            words["fair-by"] = "host"
        text = _promise(answers, parts[name])
        if name == "calls":
            slowest = min(usable(line, way) for line in answers.uplinks.values() for way in DIRECTIONS)
            text += f", {slowest * parts[name] // 100 // CALL} calls"
        if name == "downloads":
            text = f"and all else: {text}"
        yield _noted(f"      {name}: {flow(words)}", text)
    if answers.guests is not None:
        guests = f"      guests: {{guarantee: {GUESTS}%, priority: {GUESTS_PRIORITY}, fair-by: host}}"
        yield _noted(guests, f"last at all hours: {_promise(answers, GUESTS)}")


def _routes(answers: AnswersEntry) -> Iterator[str]:
    lines = list(answers.uplinks)
    if len(lines) == 1:
        return
    yield ""
    yield "# Each conversation takes the first line that is up. A line without a link is down; so is one whose `probe`"
    yield "# has no answer."
    yield "routes:"
    for place in range(0, len(lines), 2):
        words = {"name": f"By {lines[place]}" if place else "Everything", "uplink": lines[place]}
        if place + 1 < len(lines):
            words["else"] = lines[place + 1]
        yield f"  - {flow(words)}"


def _rules(answers: AnswersEntry) -> Iterator[str]:
    def rule(words: dict[str, Any]) -> str:
        return f"  - {flow(words)}"

    yield ""
    yield "# The first rule that matches decides."
    yield "rules:"
    yield rule({"name": "Names and time", "service": "names-and-time", "queue": "base"})
    if "acks" in shares(answers):
        yield rule({"name": "Acknowledgements", "packet": "acknowledgement", "length": "up to 128 B", "queue": "acks"})
    if answers.guests is not None:
        yield rule({"name": "Guests", "network": answers.guests.network, "queue": "guests"})
    # What a name or a protocol tells comes before what only behaviour tells.
    for name in ("calls", "meetings", "streaming", "swarms", "work", "play", "updates"):
        purpose = PURPOSES[name]
        services = purpose.services[0] if len(purpose.services) == 1 else list(purpose.services)
        yield rule({"name": purpose.words.partition(":")[0].capitalize(), "service": services, "queue": name})
    yield rule({"name": "Long downloads", "service": "web", "moved": "over 20 MB", "queue": "downloads"})
    yield rule({"name": "Pages", "service": "web", "queue": "web"})

"""Writes a first plan: YAML with a comment at every figure that says where it comes from.

The same answers give the same text, byte for byte.
"""

from collections.abc import Iterator, Mapping
from math import ceil
from typing import Any, Final, TypeAlias

from wily_sluice.engine.packet import LARGEST_PACKET, Framing
from wily_sluice.engine.queueing.spec import USUAL_PRIORITY
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
SLOW: Final[Rate] = 2_000_000  # bit/s, below which purposes that nobody ranked share queues
SHARING: Final = {"work": "web", "swarms": "updates"}  # each with the one whose queue it uses then
SLOW_DOWN: Final[Rate] = 20_000_000  # bit/s, below which more is left free
SLOW_HEADROOM: Final = 20  # percent
ALIKE: Final = 3  # percent, by which guarantees of both directions may differ to be one figure
MOST_ACKS: Final = 45  # percent that acknowledgements are guaranteed
FEW: Final = 3  # hosts that fill a line
COMMENT: Final = 52  # column of comments


def headroom(line: LineAnswer, way: Direction) -> int:
    """The percent of a line that is left free: that of its kind, or more of a slow one down. There, a few packets of
    a download wait for long at the provider, where the gate cannot reorder them; calls wait behind them.
    """
    kind = LINE_KINDS[line.kind]
    if way == "up":
        return kind.up
    return max(kind.down, SLOW_HEADROOM) if (line.rate(way) or 0) < SLOW_DOWN else kind.down


def usable(line: LineAnswer, way: Direction) -> Rate:
    """The usable rate of an uplink, in bit/s."""
    return round((line.rate(way) or 0) * (1 - headroom(line, way) / 100))


def arithmetic(line: LineAnswer, way: Direction) -> str:
    """How a rate came about: `180 Mbit/s measured, less 5% headroom: 171 Mbit/s`."""
    rate, percent = line.rate(way) or 0, headroom(line, way)
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


def slowest(answers: AnswersEntry, way: Direction) -> Rate:
    """The usable rate of the slowest line in a direction, in bit/s."""
    return min(usable(line, way) for line in answers.uplinks.values())


def leaves(answers: AnswersEntry) -> dict[str, list[str]]:
    """The queues in the order of importance, each with its purposes.

    On a slow line, a queue for each purpose would leave too little for any: purposes that were not ranked share queues.
    """
    order = ranked(answers.first)
    merged = dict(SHARING) if min(slowest(answers, way) for way in DIRECTIONS) < SLOW else {}
    merged = {name: into for name, into in merged.items() if name not in answers.first and into not in answers.first}
    return {
        name: [name, *(other for other, into in merged.items() if into == name)] for name in order if name not in merged
    }


def priorities(answers: AnswersEntry) -> dict[str, int]:
    """The priority of each queue. Late purposes only wait if everything less important waits too."""
    order = list(leaves(answers))
    small = [name for name in order if PURPOSES[name].small]
    large = [name for name in order if name not in small]
    late = {name: min(PURPOSES[other].late for other in large[place:]) for place, name in enumerate(large)}
    return {name: small.index(name) + 1 for name in small} | late


Shares: TypeAlias = dict[str, dict[Direction, int]]


def shares(answers: AnswersEntry) -> Shares:
    """The guarantee of each queue by direction, in percent; with `acks` if acknowledgements need a queue.

    They do if a queue's share of one direction is less than the acknowledgements of the other direction need when that
    queue fills it. On a full line, they would then slow it down.
    """
    alone = {way: _shares(answers, way, 0) for way in DIRECTIONS}
    needed: dict[Direction, int] = {way: acks(answers, way) for way in DIRECTIONS}
    least = min(GUESTS, *(part for ways in alone.values() for name, part in ways.items() if not PURPOSES[name].small))
    apart = max(needed.values()) > least
    parts = {way: _shares(answers, way, needed[way]) for way in DIRECTIONS} if apart else alone
    if all(abs(parts["up"][name] - parts["down"][name]) <= ALIKE for name in parts["up"]):
        least_of = {name: min(parts[way][name] for way in DIRECTIONS) for name in parts["up"]}
        if all(least_of["calls"] * slowest(answers, way) >= 100 * CALL for way in DIRECTIONS):
            parts = dict.fromkeys(DIRECTIONS, least_of)
    named: Shares = {name: {way: parts[way][name] for way in DIRECTIONS} for name in leaves(answers)}
    return named | {"acks": needed} if apart else named


def _shares(answers: AnswersEntry, way: Direction, apart: int) -> dict[str, int]:
    """In one direction. More important purposes never get less, even if calls need more than their rank gives."""
    left = 100 - BASE - GUESTS - apart
    names = list(leaves(answers))
    whole = sum(SHARES[: len(names)])
    usual = [max(1, share * left // whole) for share in SHARES[: len(names)]]
    for calls in range(CALLS, 0, -1):
        needed = ceil(100 * calls * CALL / slowest(answers, way))
        place = names.index("calls")
        least = [needed if number <= place else 1 for number in range(len(names))]
        if sum(least) <= left:
            break
    else:
        least = [needed if name == "calls" else 1 for name in names]
    parts = [max(pair) for pair in zip(usual, least, strict=True)]
    while sum(parts) > left:
        # From the last of those that can give one away without getting less than one that matters less.
        behind = [*parts[1:], 1]
        giving = [n for n, part in enumerate(parts) if part > max(least[n], behind[n])]
        parts[giving[-1] if giving else parts.index(max(parts))] -= 1
    return dict(zip(names, parts, strict=True))


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
        free = {way: headroom(line, way) for way in DIRECTIONS}
        why = kind.why if free["down"] == kind.down else "a slow line down: downloads must not queue at the provider"
        yield _noted(f"    headroom: {flow(_percent(free))}", why)
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


def _promise(answers: AnswersEntry, percent: Mapping[Direction, int]) -> str:
    line = next(iter(answers.uplinks.values()))
    rates = (f"{format_rate(float(f'{usable(line, way) * percent[way] / 100:.3g}'))} {way}" for way in DIRECTIONS)
    return f"at least {' and '.join(rates)}"


def _percent(parts: Mapping[Direction, int]) -> str | dict[Direction, str]:
    """One for both directions, if it is the same."""
    words = {way: f"{parts[way]}%" for way in DIRECTIONS}
    return words["up"] if words["up"] == words["down"] else words


def _tree(answers: AnswersEntry) -> Iterator[str]:
    parts, order, priority = shares(answers), leaves(answers), priorities(answers)
    yield ""
    yield "# A queue gets its guarantee even on a full line; others use it while the queue is idle."
    yield "# Small, urgent traffic has the first priority."
    if any(len(purposes) > 1 for purposes in order.values()):
        yield f"# Below {format_rate(SLOW)}, a queue for each purpose would leave too little for any: some share one."
    yield "trees:"
    yield "  main:"
    yield "    queues:"
    base = f"      base: {{guarantee: {BASE}%, priority: 1, cap: {BASE_CAP}}}"
    yield _noted(base, "names and time, without which nothing begins")
    if "acks" in parts:
        words: dict[str, Any] = {
            "guarantee": _percent(parts["acks"]),
            "priority": ACKS_PRIORITY,
            "cap": _percent({way: min(2 * parts["acks"][way], 90) for way in DIRECTIONS}),
            "fair-by": "host",
        }
        yield "      # Acknowledgements have their own queue, so that uploads do not slow downloads."
        yield f"      acks: {flow(words)}"
    for name, purposes in order.items():
        purpose = PURPOSES[name]
        words = {"guarantee": _percent(parts[name])}
        if priority[name] != USUAL_PRIORITY:
            words["priority"] = priority[name]
        if purpose.small:
            words["cap"] = purpose.cap
        if name == "downloads":
            words["default"] = True
        if name == "downloads" or (answers.alike and not purpose.small):
            words["fair-by"] = "host"
        text = _promise(answers, parts[name])
        if name == "calls":
            calls = min(slowest(answers, way) * parts[name][way] // 100 for way in DIRECTIONS) // CALL
            text += f", {calls} call{'s' * (calls != 1)}"
        if len(purposes) > 1:
            text = f"also {' and '.join(PURPOSES[other].words.partition(':')[0] for other in purposes[1:])}: {text}"
        if name == "downloads":
            text = f"and all else: {text}"
        yield _noted(f"      {name}: {flow(words)}", text)
    if answers.guests is not None:
        guests = f"      guests: {{guarantee: {GUESTS}%, priority: {GUESTS_PRIORITY}, fair-by: host}}"
        promised = _promise(answers, dict.fromkeys(DIRECTIONS, GUESTS))
        yield _noted(guests, f"last at all hours: {promised}")


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
    queue_of = {purpose: queue for queue, purposes in leaves(answers).items() for purpose in purposes}
    for name in ("calls", "meetings", "streaming", "swarms", "work", "play", "updates"):
        purpose = PURPOSES[name]
        services = purpose.services[0] if len(purpose.services) == 1 else list(purpose.services)
        yield rule({"name": purpose.words.partition(":")[0].capitalize(), "service": services, "queue": queue_of[name]})
    yield rule({"name": "Long downloads", "service": "web", "moved": "over 20 MB", "queue": "downloads"})
    yield rule({"name": "Pages", "service": "web", "queue": queue_of["web"]})

"""The terms of the trade, each in a few sentences, with what a plan has of it."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

from wily_sluice.plan.model import Plan, Queue
from wily_sluice.units import DIRECTIONS, format_rate, format_share, format_size, format_time


def _none(_: Plan) -> list[str]:
    return []


@dataclass(frozen=True, slots=True)
class Term:
    """A term, other words for it, what it means, and lines about a plan that has it."""

    name: str
    text: str
    also: tuple[str, ...] = ()
    example: Callable[[Plan], list[str]] = _none


def _queues(plan: Plan) -> list[tuple[str, Queue]]:
    return [(tree.name, queue) for tree in plan.trees.values() for queue in tree.walk()]


def _said(plan: Plan, key: str) -> list[str]:
    """The queues that have a value for a key in some direction."""
    found = []
    for tree, queue in _queues(plan):
        values = getattr(queue, key)
        if values.up == values.down and values.up is not None:
            found.append(f"{tree}: {queue.path} has {values.up}")
        else:
            found += [f"{tree}: {queue.path} has {values.of(way)} {way}" for way in DIRECTIONS if values.of(way)]
    return found


def _uplinks(plan: Plan) -> list[str]:
    return [
        f"{u.name}: {format_rate(u.down)} down and {format_rate(u.up)} up, of which "
        f"{format_rate(u.usable('down'))} and {format_rate(u.usable('up'))} are used"
        for u in plan.uplinks
    ]


def _networks(plan: Plan) -> list[str]:
    return [f"{n.name}: {', '.join(n.subnets)} behind {n.interface}" for n in plan.networks]


def _priorities(plan: Plan) -> list[str]:
    return [f"{tree}: {q.path} has priority {q.priority}" for tree, q in _queues(plan) if q.priority != 5]


def _weights(plan: Plan) -> list[str]:
    return [f"{tree}: {q.path} has weight {q.weight:g}" for tree, q in _queues(plan) if q.weight != 1]


def _delays(plan: Plan) -> list[str]:
    return [f"{tree}: {q.path} within {format_time(q.leaf.delay)}" for tree, q in _queues(plan) if q.leaf.delay]


def _limiters(plan: Plan) -> list[str]:
    found = []
    for one in plan.limiters:
        rates = " and ".join(f"{format_rate(rate)} {way}" for way in DIRECTIONS if (rate := one.rate(way)))
        found.append(f"{one.name}: {rates}, {'in total' if one.per.whom == 'together' else f'for each {one.per.whom}'}")
    return found


def _bursts(plan: Plan) -> list[str]:
    return [
        f"{one.name}: {' and '.join(f'{format_size(one.burst_of(r))} {w}' for w in DIRECTIONS if (r := one.rate(w)))}"
        for one in plan.limiters
        if any(one.rate(way) for way in DIRECTIONS)
    ]


def _marks(plan: Plan) -> list[str]:
    return [f"rule {rule.name} writes DSCP {rule.mark}" for rule in plan.rules if rule.mark is not None]


def _headroom(plan: Plan) -> list[str]:
    return [
        f"{u.name}: {format_share(u.headroom.of(way) or 0)} is left free {way}"
        for u in plan.uplinks
        for way in DIRECTIONS
    ]


def _ranges(plan: Plan) -> list[str]:
    return [
        f"{u.name}: {format_rate(lowest)} to {format_rate(u.measured(way))} {way}"
        for u in plan.uplinks
        for way in DIRECTIONS
        if (lowest := u.lowest.of(way)) is not None
    ]


GLOSSARY: Final[tuple[Term, ...]] = (
    Term("up", "Toward the internet, from your hosts. One of the only two directions here.", ("upload", "upstream")),
    Term("down", "Toward your hosts, from the internet. One of the only two directions here.", ("download",)),
    Term("local", "Your side of a conversation, whichever side opened it.", ("source", "client")),
    Term("remote", "The far side of a conversation, across an uplink.", ("destination", "server")),
    Term(
        "uplink",
        "A line to the internet. The gate shapes each uplink in both directions by what it measured, not by what was "
        "advertised.",
        ("line", "wan"),
        _uplinks,
    ),
    Term(
        "tunnel",
        "A line within a line: its packets leave inside others, over an uplink. What they carry is sorted, and charged "
        "with what goes around it.",
        ("vpn",),
        lambda p: [f"{t.name}: {t.words} over {t.uplink}" for t in p.tunnels],
    ),
    Term(
        "route",
        "Chooses the uplink of a conversation, where there are several: the first that matches and has one that is up.",
        ("policy routing",),
        lambda p: [
            f"{r.name}: {' and '.join(name for name, _ in r.shares)}" + (f", else {r.otherwise}" if r.otherwise else "")
            for r in p.routes
        ],
    ),
    Term(
        "range",
        "The rate of a line that varies, such as `8 to 30 Mbit/s`. The gate keeps measuring delay, "
        "works out what the line can carry now, and shapes to that.",
        ("varying",),
        _ranges,
    ),
    Term(
        "refuse",
        "An uplink refuses queues that must not use it. Their conversations take another uplink, or are dropped.",
        (),
        lambda p: [f"{u.name}: {' and '.join(u.refuses)}" for u in p.uplinks if u.refuses],
    ),
    Term(
        "probe",
        "An echo a second to remotes that should answer over an uplink. Routes avoid an uplink whose probes are lost.",
        ("health check",),
    ),
    Term(
        "opening",
        "A port of a host that remotes may reach. Hosts ask for it by PCP (RFC 6887) or NAT-PMP (RFC 6886), and get it "
        "where the plan grants it.",
        ("port forwarding", "pcp", "nat-pmp"),
        lambda p: [f"{one.name}: {' and '.join(one.local.words)}" for one in p.grants],
    ),
    Term(
        "keep-ports",
        "Hosts whose source ports stay the same when their addresses are translated, unless two would collide.",
        (),
        lambda p: list(p.steady.words) if p.steady is not None else [],
    ),
    Term("gateway", "This machine itself: what it sends and receives is a host's of that name.", ("router",)),
    Term("network", "The hosts behind one interface of the gateway, by their subnets.", ("lan", "subnet"), _networks),
    Term(
        "host",
        "One device, by its addresses. By its hardware address, it is followed to every address it gets.",
        (),
        lambda p: list(p.named_hosts),
    ),
    Term(
        "group", "A name for hosts, remotes or ports, to be used in rules and limiters.", (), lambda p: list(p.groups)
    ),
    Term(
        "schedule", "When something applies: days, times, dates and exceptions.", ("when",), lambda p: list(p.schedules)
    ),
    Term(
        "service",
        "What a conversation is for, such as calls: recognised by its protocol, "
        "names and ports, on whatever port it is.",
        ("application",),
        lambda p: list(p.services),
    ),
    Term(
        "conversation",
        "All packets between two addresses and ports by one protocol, in both "
        "directions. Rules sort conversations, not "
        "packets.",
        ("flow", "connection", "session"),
    ),
    Term(
        "tree",
        "How the rate of a line is divided: queues in queues, down to the leaves that hold packets.",
        (),
        lambda p: [f"{tree.name}: {', '.join(leaf.path for leaf in tree.leaves)}" for tree in p.trees.values()],
    ),
    Term(
        "queue", "A place in a tree. Leaves hold packets that wait their turn; parents divide their rate.", ("class",)
    ),
    Term("parent", "A queue that has others below it. It holds no packets; it divides its rate among its children."),
    Term("child", "A queue below a parent, from which it gets its rate.", ("children",)),
    Term("sibling", "Another child of the same parent. What one does not use, its siblings can have.", ("siblings",)),
    Term("leaf", "A queue without children. Rules name leaves, since only these hold packets.", ("leaves",)),
    Term(
        "default",
        "The leaf for traffic that no rule matches. It needs a guarantee, since everything unforeseen ends there.",
        (),
        lambda p: [f"{tree.name}: {leaf.path}" for tree in p.trees.values() for leaf in tree.leaves if leaf.default],
    ),
    Term(
        "guarantee",
        "The rate a queue is sure of when it has packets to send, whatever others do. What it does not use is lent to "
        "others. Guarantees of siblings add up to at most what their parent has.",
        ("minimum", "reserved", "committed"),
        lambda p: _said(p, "guarantee"),
    ),
    Term(
        "cap",
        "The most that a queue can have, even on an idle line. To reserve a rate for one queue, give it a guarantee; "
        "capping the others wastes what is idle.",
        ("maximum", "ceiling"),
        lambda p: _said(p, "cap"),
    ),
    Term(
        "priority",
        "The order in which siblings get what the guarantees have left: 1 is first, "
        "9 last, 5 the default. It decides who "
        "may starve, so those behind need guarantees.",
        ("precedence",),
        _priorities,
    ),
    Term(
        "weight",
        "How siblings of one priority share what is left: weight 2 gets twice as much as weight 1.",
        ("ratio",),
        _weights,
    ),
    Term(
        "discipline",
        "How a parent divides its rate: weighted (guarantees, then priority, then weight), strict (priority alone) or "
        "curve (promised delays). `sluice explain choice discipline` compares them.",
        ("scheduler",),
        lambda p: [f"{tree.name}: {tree.discipline}" for tree in p.trees.values()],
    ),
    Term("weighted", "A discipline: guarantees first, then by priority, and within a priority by weight."),
    Term("strict", "A discipline: by priority alone. Whoever is first can starve the others."),
    Term(
        "curve", "A discipline: leaves get a promised delay for the traffic within their guarantee.", ("service-curve",)
    ),
    Term(
        "delay",
        "How long a packet takes, one way or there and back. On a full line it spends most of that in a queue. The key "
        "`delay` of a queue below a curve parent bounds it for packets within the guarantee.",
        ("latency", "lag", "deadline"),
        _delays,
    ),
    Term("starve", "To get nothing while others have packets. A guarantee prevents it.", ("starvation",)),
    Term(
        "limiter",
        "A cap for whatever it matches: hosts, networks, services. All limiters that match apply, before the queues.",
        ("policer",),
        _limiters,
    ),
    Term(
        "per",
        "Who has a rate of their own under a limiter: each host, address, subnet or conversation, or all together.",
    ),
    Term(
        "burst",
        "How much may pass at full speed before a limiter takes hold. Too small a "
        "burst keeps TCP from reaching the rate.",
        ("bucket",),
        _bursts,
    ),
    Term("excess", "What happens to packets above a limiter's rate: they wait, are dropped, or are marked."),
    Term("peak", "The rate at which a burst passes a limiter, where that is limited as well."),
    Term("engage", "How busy the line must be, by others, before a limiter applies.", ("threshold",)),
    Term("quota", "A volume in a day, week or month, after which a limiter applies.", ("volume", "data-cap")),
    Term(
        "round-trip",
        "The time to the far side and back. TCP needs a burst of about two round trips at its rate.",
        ("rtt",),
    ),
    Term(
        "rule",
        "Puts the conversations that it matches into a queue, marks them, or "
        "both. The first rule that matches decides.",
        ("filter",),
        lambda p: [f"{number}. {rule.name}" for number, rule in enumerate(p.rules, 1)],
    ),
    Term(
        "headroom",
        "The part of the measured rate that is left free, so that packets queue here, in order, and not in the modem.",
        ("margin",),
        _headroom,
    ),
    Term(
        "framing",
        "What the line adds to each packet: headers, tags, cells. Small packets cost far more than their own bytes.",
        ("overhead", "encapsulation"),
        lambda p: [f"{u.name}: {u.framed.words}" for u in p.uplinks],
    ),
    Term("backlog", "The packets that wait in a queue, in bytes."),
    Term("drop", "A packet that is thrown away, so that its sender slows down. TCP expects a few.", ("drops",)),
    Term("mark", "A DSCP that a rule writes into packets, for devices further on.", ("marking",), _marks),
    Term("dscp", "Six bits in the IP header that say how urgent a packet is (RFC 2474). Strangers write them as well."),
    Term("ecn", "A router marks a packet instead of dropping it, and the sender slows down likewise (RFC 3168)."),
    Term(
        "aqm",
        "Active queue management: it drops or marks early, so that a queue stays short. `sluice explain choice aqm` "
        "compares what there is.",
        ("queue-management",),
    ),
    Term("fq-codel", "A queue for each conversation, each kept short by CoDel (RFC 8290). The default of a leaf."),
    Term("codel", "Drops or marks packets when the shortest wait of the last 100 ms was above 5 ms (RFC 8289)."),
    Term("fifo", "First in, first out, and a limit. Short for one kind of small packet; long for anything else."),
    Term("fair-by", "Whether a leaf shares its rate among conversations or hosts: by host, ten downloads are one."),
    Term("goodput", "What programs get, without headers and repeats."),
    Term(
        "jitter",
        "How much the delay varies from packet to packet. Calls and games suffer more from it than from delay itself.",
    ),
    Term("loss", "The part of packets that never arrive. A call stands about 1%."),
    Term("rate", "Bits in a second. 1 Mbit/s is 1,000,000 bit/s, and 125 kB/s.", ("bandwidth", "speed")),
)
BY_NAME: Final = {word: term for term in GLOSSARY for word in (term.name, *term.also)}

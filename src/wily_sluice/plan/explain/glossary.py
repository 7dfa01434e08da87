"""The terms of the trade: a short definition of each, with examples from a plan."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

from wily_sluice.plan.model import Plan, Queue
from wily_sluice.units import DIRECTIONS, format_rate, format_share, format_size, format_time


def _none(_: Plan) -> list[str]:
    return []


@dataclass(frozen=True, slots=True)
class Term:
    """A term, its definition, words that mean the same but are not used here, and lines about a plan."""

    name: str
    text: str
    also: tuple[str, ...] = ()
    example: Callable[[Plan], list[str]] = _none


def _queues(plan: Plan) -> list[tuple[str, Queue]]:
    return [(tree.name, queue) for tree in plan.trees.values() for queue in tree.walk()]


def _said(plan: Plan, key: str) -> list[str]:
    """The queues that have a value for a key in some direction."""
    terms = []
    for tree, queue in _queues(plan):
        values = getattr(queue, key)
        if values.up == values.down and values.up is not None:
            terms.append(f"{tree}: {queue.path} has {values.up}")
        else:
            terms += [f"{tree}: {queue.path} has {values.of(way)} {way}" for way in DIRECTIONS if values.of(way)]
    return terms


def _uplinks(plan: Plan) -> list[str]:
    return [
        f"{u.name}: {format_rate(u.down)} down and {format_rate(u.up)} up, usable rates "
        f"{format_rate(u.usable('down'))} and {format_rate(u.usable('up'))}"
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
    words = []
    for limiter in plan.limiters:
        rates = " and ".join(f"{format_rate(rate)} {way}" for way in DIRECTIONS if (rate := limiter.rate(way)))
        whose = "in total" if limiter.per.whom == "together" else f"for each {limiter.per.whom}"
        words.append(f"{limiter.name}: {rates}, {whose}")
    return words


def _bursts(plan: Plan) -> list[str]:
    words = []
    for limiter in plan.limiters:
        rates = {way: limiter.rate(way) for way in DIRECTIONS}
        bursts = [f"{format_size(limiter.burst_of(rate))} {way}" for way, rate in rates.items() if rate]
        words += [f"{limiter.name}: {' and '.join(bursts)}"] if bursts else []
    return words


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
    Term("up", "The direction toward the internet, from your hosts.", ("upload", "upstream")),
    Term("down", "The direction toward your hosts, from the internet.", ("download", "downstream")),
    Term("local", "Your side of a conversation, whichever side opened it.", ("source", "client")),
    Term("remote", "The internet side of a conversation, whichever side opened it.", ("destination", "server")),
    Term(
        "uplink",
        "A connection of the gateway to the internet. The gate shapes it in both directions to its measured rate, not "
        "to the advertised one.",
        ("wan",),
        _uplinks,
    ),
    Term("line", "The provider's physical connection. `gauge` measures it; the lab and the rig simulate it."),
    Term("far end", "The machine beyond the provider that runs `sluice gauge serve`.", ("reflector",)),
    Term(
        "tunnel",
        "An encrypted or encapsulated connection over an uplink. Rules see the packets inside it, and each is charged "
        "with its encapsulation.",
        ("vpn",),
        lambda p: [f"{t.name}: {t.words} over {t.uplink}" for t in p.tunnels],
    ),
    Term(
        "route",
        "Chooses the uplink of a conversation if there are several. The first route that matches and has a working "
        "uplink decides.",
        ("policy routing",),
        lambda p: [
            f"{r.name}: {' and '.join(name for name, _ in r.shares)}" + (f", else {r.otherwise}" if r.otherwise else "")
            for r in p.routes
        ],
    ),
    Term(
        "range",
        "The lowest and highest rate of an uplink that varies, such as `8 to 30 Mbit/s`. The gate finds the current "
        "rate from the delay, and shapes to it.",
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
        "One ping a second to remotes that should answer over an uplink. Routes avoid an uplink with lost probes.",
        ("health", "health check"),
    ),
    Term("ping", "An ICMP echo and its answer."),
    Term(
        "mapping",
        "A port of a host that is open to the internet. Hosts request one by PCP (RFC 6887) or NAT-PMP (RFC 6886), and "
        "the plan says which to grant.",
        ("opening", "port forwarding", "pcp", "nat-pmp"),
        lambda p: [f"{grant.name}: {' and '.join(grant.local.words)}" for grant in p.grants],
    ),
    Term(
        "keep-ports",
        "Hosts that keep their source ports when their addresses are translated, unless two would collide.",
        (),
        lambda p: list(p.steady.words) if p.steady is not None else [],
    ),
    Term("gateway", "The machine that runs the gate. Rules treat its own traffic as that of a host `gateway`."),
    Term("gate", "The program that shapes packets on the gateway: `sluice gate run`.", ("daemon",)),
    Term("network", "The hosts behind one interface of the gateway, with their subnets.", ("lan",), _networks),
    Term(
        "host",
        "One device, with all its addresses. With its hardware address in the plan, it keeps its name at any address.",
        (),
        lambda p: list(p.named_hosts),
    ),
    Term("group", "A name for hosts, remotes or ports, for use in rules and limiters.", (), lambda p: list(p.groups)),
    Term(
        "schedule",
        "Days, times, dates and exceptions during which a rule or limiter applies.",
        (),
        lambda p: list(p.schedules),
    ),
    Term(
        "service",
        "The purpose of a conversation, such as calls, recognised by its protocol, names and ports.",
        (),
        lambda p: list(p.services),
    ),
    Term(
        "conversation",
        "All packets between two addresses and ports by one protocol, in both directions. Rules sort conversations.",
        ("flow", "session"),
    ),
    Term(
        "tree",
        "Divides the rate of an uplink: queues within queues, down to the leaves that hold packets.",
        (),
        lambda p: [f"{tree.name}: {', '.join(leaf.path for leaf in tree.leaves)}" for tree in p.trees.values()],
    ),
    Term("queue", "A node of a tree. Leaves hold packets; parents divide their rate among children.", ("class",)),
    Term("parent", "A queue with queues below it. It holds no packets and divides its rate among its children."),
    Term("child", "A queue below a parent, which gives it its rate.", ("children",)),
    Term("sibling", "Another child of the same parent. Siblings can use the rate that one leaves idle.", ("siblings",)),
    Term("leaf", "A queue without children. Only leaves hold packets, so rules name leaves.", ("leaves",)),
    Term(
        "default",
        "The leaf for traffic that no rule matches. Give it a guarantee, because all unforeseen traffic ends there.",
        (),
        lambda p: [f"{tree.name}: {leaf.path}" for tree in p.trees.values() for leaf in tree.leaves if leaf.default],
    ),
    Term(
        "guarantee",
        "The rate that a queue gets whenever it has packets to send. Others use it while the queue is idle. Siblings "
        "may not be guaranteed more than their parent in total.",
        ("minimum", "reserved", "committed"),
        lambda p: _said(p, "guarantee"),
    ),
    Term(
        "cap",
        "The highest rate of a queue, even on an idle uplink. To reserve a rate for one queue, give it a guarantee: "
        "capping the others wastes idle capacity.",
        ("maximum", "ceiling"),
        lambda p: _said(p, "cap"),
    ),
    Term(
        "priority",
        "Decides who is offered spare capacity first: 1 is first, 9 last, 5 the default. Queues behind a "
        "busy one can starve, so give them guarantees.",
        ("precedence",),
        _priorities,
    ),
    Term(
        "weight",
        "How siblings of equal priority share spare capacity: weight 2 gets twice as much as weight 1.",
        (),
        _weights,
    ),
    Term(
        "discipline",
        "How a parent divides its rate: weighted (guarantees, then priority, then weight), strict (priority alone) or "
        "curve (promised delays). `sluice explain choice discipline` compares them.",
        ("scheduler",),
        lambda p: [f"{tree.name}: {tree.discipline}" for tree in p.trees.values()],
    ),
    Term("weighted", "A discipline: guarantees first, then priority, and within a priority by weight."),
    Term("strict", "A discipline: priority alone. The first queue can starve the others."),
    Term("curve", "A discipline: leaves get a promised delay for traffic within their guarantee.", ("service-curve",)),
    Term(
        "delay",
        "The time that a packet takes, in a queue, one way, or for the round trip. On a full line, most is time in a "
        "queue. The key `delay` of a leaf below a curve parent bounds it for traffic within the guarantee.",
        ("latency", "lag", "deadline"),
        _delays,
    ),
    Term("starve", "To get no rate while others send. A guarantee prevents it.", ("starvation",)),
    Term(
        "limiter",
        "A cap on matching traffic: by host, network, service or in total. All matching limiters apply, ahead of the "
        "queues.",
        ("policer",),
        _limiters,
    ),
    Term("per", "Who gets a limiter's rate: each host, address, subnet, network or conversation, or all together."),
    Term(
        "burst",
        "The amount that passes a limiter at full speed after a pause. With too small a burst, TCP is slower.",
        ("bucket",),
        _bursts,
    ),
    Term("excess", "Packets above a limiter's rate: they wait, are dropped, or are marked.", ("overflow",)),
    Term("peak", "A second, higher rate of a limiter, which bounds its bursts."),
    Term("engage", "How busy the uplink must be before a limiter applies.", ("threshold",)),
    Term("quota", "A volume per day, week or month, after which a limiter applies.", ("volume", "data-cap")),
    Term(
        "round-trip",
        "The time to the remote and back. TCP needs a burst of about two round trips at its rate.",
        ("rtt",),
    ),
    Term(
        "rule",
        "Puts matching conversations into a queue, marks their packets, or both. The first matching rule decides.",
        (),
        lambda p: [f"{number}. {rule.name}" for number, rule in enumerate(p.rules, 1)],
    ),
    Term(
        "headroom",
        "The part of the measured rate to leave free, so that packets queue in the gate and not in the modem.",
        ("margin",),
        _headroom,
    ),
    Term(
        "framing",
        "The overhead of the line for each packet: headers, tags, cells. It makes small packets costly.",
        ("overhead", "encapsulation"),
        lambda p: [f"{u.name}: {u.framed.words}" for u in p.uplinks],
    ),
    Term("backlog", "The packets or bytes in a queue.", ("waiting",)),
    Term("drop", "A discarded packet. TCP takes it as a sign to slow down, and expects a few.", ("drops",)),
    Term("mark", "A DSCP that a rule writes into packets, for devices further along the path.", ("marking",), _marks),
    Term("DSCP", "Six bits in the IP header that request a class of service (RFC 2474). Any sender can set them."),
    Term(
        "ECN mark",
        "Two bits in the IP header that ask the sender to slow down, instead of a drop (RFC 3168).",
        ("ecn",),
    ),
    Term("firewall mark", "A number that the kernel attaches to a packet. Routes use a few of its bits.", ("fwmark",)),
    Term(
        "AQM",
        "Active queue management: early drops or ECN marks keep a queue short. `sluice explain choice aqm` compares "
        "the kinds.",
        ("queue-management",),
    ),
    Term("fq-codel", "One queue for each conversation, each kept short by CoDel (RFC 8290). The default of a leaf."),
    Term("codel", "Drops or ECN-marks packets if the delay stayed above 5 ms for 100 ms (RFC 8289)."),
    Term("fifo", "First in, first out, with a limit. Good for a single kind of small packet."),
    Term("fair-by", "A leaf shares its rate among conversations, or among hosts. By host, ten downloads count as one."),
    Term("goodput", "The rate that programs get: payload without headers and retransmissions."),
    Term("jitter", "The variation of delay from packet to packet. Calls and games suffer from it most."),
    Term("mos", "Mean opinion score, from 1 to 4.5: how good a call sounds, by its delay and loss (ITU-T G.107)."),
    Term("loss", "The fraction of packets that never arrive. A call tolerates about 1%."),
    Term("rate", "Bits per second. 1 Mbit/s is 1,000,000 bit/s, or 125 kB/s.", ("bandwidth", "speed")),
    Term(
        "bypass",
        "Packets bypass the gate if it is stopped or too slow: they are forwarded without shaping.",
        ("unshaped",),
    ),
    Term("trial", "A new plan runs on trial until you keep it; otherwise the gate returns to the previous plan."),
    Term("kept", "A kept plan is the one that the gate starts with. A kept promise is one that a test has confirmed."),
    Term("fix", "A safe remedy for a finding: `sluice check --fix`, `sluice doctor --fix`.", ("mend",)),
    Term("undo", "To return to the state before an edit, a fix or a plan.", ("revert", "rollback", "restore")),
    Term("finding", "An error or a risk that `sluice check` reports, with a code.", ("lint",)),
    Term("promise", "A guarantee, cap, delay or route of a plan, which `sluice prove` tests.", ("assertion",)),
    Term("application", "A simulated program that the lab runs: a download, a call, a ping."),
    Term("event", "An entry of the gate's log."),
    Term("notice", "A message about a problem, sent where the plan's `notify` says.", ("alert",)),
)
BY_NAME: Final = {word.lower().replace(" ", "-"): term for term in GLOSSARY for word in (term.name, *term.also)}

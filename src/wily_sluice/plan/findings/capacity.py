"""Findings about capacity that starves, is wasted, or fills up a queue."""

from collections.abc import Iterator

from wily_sluice.engine.packet import LARGEST_PACKET
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.plan.build import leaf_limit
from wily_sluice.plan.edit.operations import Remove, at
from wily_sluice.plan.findings.finding import queue_location
from wily_sluice.plan.findings.kind import Checked, Told, highest_rate, kind, levels
from wily_sluice.plan.findings.uplinks import ACK, EVERY
from wily_sluice.units import (
    SECOND,
    Direction,
    format_rate,
    format_rate_both,
    format_share,
    format_size,
    format_time,
    transmission_time,
)


@kind(
    "cap-above-parent",
    "warning",
    once=True,
    story="""\
A queue never gets more than its parent, so a cap above the parent's rate has no effect. Perhaps a rate was copied
from another line.
""",
    has="""\
trees:
  main:
    queues:
      rest: {cap: {up: 12 Mbit/s}}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {cap: {up: 9 Mbit/s}}
""",
)
def cap_above_parent(checked: Checked) -> Iterator[Told]:
    """A cap that is more than the parent may have."""
    for level in levels(checked):
        for queue in level.queues:
            cap = queue.cap.of(level.direction)
            if cap is not None and cap.rate is not None and cap.rate > level.cap:
                message = f"{format_rate_both(cap.rate)} {level.direction} is more than {level.name} can have"
                location = level.at(queue, "cap")
                written = at(checked.document.data, location)  # where it is one for both directions, one may need it
                apart = isinstance(written, dict) and level.direction in written
                fix = (Remove((*location, level.direction) if len(written) > 1 else location),) if apart else ()
                yield Told(location, message, f"at most {format_rate_both(level.cap)}", fix)


def starved_by(spec: QueueSpec, path: str) -> str:
    """Who may take all before a leaf, at some level above it; empty where it always gets something."""
    rate = spec.cap
    while spec.children:
        own = next(child for child in spec.children if path == child.path or path.startswith(f"{child.path}/"))
        others = [child for child in spec.children if child is not own]
        earlier = [child for child in others if child.priority < own.priority and spec.discipline != "curve"]
        taken = sum(highest_rate(child) if child in earlier else child.guarantee for child in others)
        if earlier and not own.guarantee and taken >= rate:
            return " and ".join(child.path for child in earlier)
        rate = max(own.guarantee, min(own.cap, rate - taken)) if spec.discipline != "curve" else own.cap
        spec = own
    return ""


@kind(
    "default-starves",
    "warning",
    once=True,
    story="""\
The default leaf holds all traffic that no rule names: DNS, time, a new phone. More urgent queues can take the whole
uplink, and then all of that stops. A guarantee of a few percent prevents it and costs the others nothing while it
is unused.
""",
    has="""\
trees:
  main:
    queues:
      rest: {guarantee: null}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {guarantee: 1%}
""",
)
def default_starves(checked: Checked) -> Iterator[Told]:
    """A default leaf that may get nothing while others have something to send."""
    for tree, _, way, root in checked.uses:
        for default in (leaf for leaf in tree.leaves if leaf.default):
            if first := starved_by(root, default.path):
                message = f"can starve {way}: {first} can take everything first, and it has no guarantee"
                yield Told(queue_location(tree.name, default.path), message, "add a guarantee, such as 5%")


OTHER: dict[Direction, Direction] = {"up": "down", "down": "up"}


def _three(rate: float) -> float:
    return float(f"{rate:.3g}")


def held_when_busy(spec: QueueSpec, path: str, default: str) -> int | None:
    """The rate in bit/s of a leaf when it and all queues no more urgent than the default flood, at each level.

    None if the leaf is more urgent, or if a parent does not divide its rate by weights.
    """
    rate = float(spec.cap)
    while spec.children:
        if spec.discipline != "weighted":
            return None
        own = next(child for child in spec.children if path == child.path or path.startswith(f"{child.path}/"))
        level = min(
            (child.priority for child in spec.children if f"{default}/".startswith(f"{child.path}/")), default=1
        )
        busy = [child for child in spec.children if child.priority >= level]
        if own.priority != level:
            return None
        left = max(0.0, rate - sum(child.guarantee for child in busy))
        first = [child for child in busy if child.priority == level]
        rate = min(own.cap, own.guarantee + left * own.weight / sum(child.weight for child in first))
        spec = own
    return round(rate)


@kind(
    "acks-outgrow-queue",
    "warning",
    once=True,
    story="""\
TCP acknowledges every second packet, in the queue of the download. If that queue's share of the way up is too small
for the acknowledgements, uploads in other queues slow its downloads even though the way down is free. Give
acknowledgements their own queue with a guarantee.
""",
    has="""\
uplinks:
  line: {down: 100 Mbit/s, up: 11 Mbit/s}
trees:
  main:
    queues:
      films: {weight: 0.3}
      rest: {guarantee: 20%, default: true}
rules:
  - {service: calls, queue: calls}
  - {service: streaming, queue: films}
""",
    lacks="""\
uplinks:
  line: {down: 100 Mbit/s, up: 11 Mbit/s}
trees:
  main:
    queues:
      films: {weight: 3}
      rest: {guarantee: 20%, default: true}
rules:
  - {service: calls, queue: calls}
  - {service: streaming, queue: films}
""",
)
def acks_outgrow_queue(checked: Checked) -> Iterator[Told]:
    """Queues whose downloads need more acknowledgements than their share of the other direction allows."""
    if any(terms.kinds for _, terms in checked.asked):
        return
    used = {(uplink.name, way): root for _, uplink, way, root in checked.uses}
    for tree, uplink, way, root in checked.uses:
        other = used.get((uplink.name, OTHER[way]))
        part = uplink.framing.cost(ACK) / uplink.framing.cost(LARGEST_PACKET) / EVERY
        if other is not None:
            default = next((leaf.path for leaf in tree.leaves if leaf.default), "")
            carried = {leaf.path: leaf.cap for leaf in other.leaves()}
            for leaf in root.leaves():
                if leaf.leaf is None or leaf.leaf.refused or leaf.path not in carried or not default:
                    continue
                needed, held = round(carried[leaf.path] * part), held_when_busy(root, leaf.path, default)
                if held is not None and needed > held:
                    message = (
                        f"has {format_rate(_three(held))} {way} while others fill the line; acknowledging a full queue "
                        f"{OTHER[way]} takes {format_rate(_three(needed))}, so it is slowed {OTHER[way]}"
                    )
                    remedy = "add {packet: acknowledgement, queue: …} with a queue that has this guarantee"
                    yield Told(queue_location(tree.name, leaf.path), message, remedy)


NEARLY = 0.99  # of what the parent may have


@kind(
    "capacity-unusable",
    "warning",
    once=True,
    story="""\
A cap holds even on an idle uplink. If the caps of all siblings add up to less than their parent has, the rest can
never be used. To reserve a rate for one queue, give it a guarantee: others can use it while the queue is idle.
""",
    has="""\
trees:
  main:
    queues:
      calls: {cap: 30%}
      rest: {cap: 60%}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {cap: 30%}
      rest: {cap: 70%}
""",
)
def capacity_unusable(checked: Checked) -> Iterator[Told]:
    """Caps of siblings that add up to less than their parent may have."""
    for tree, uplink, way, root in checked.uses:
        for parent in root.walk():
            whole = sum(map(highest_rate, parent.children))
            if parent.children and whole < parent.cap * NEARLY:
                message = (
                    f"{format_rate(parent.cap - whole)} of {parent.path or uplink.name} {way} can never be used: "
                    "the caps add up to less"
                )
                remedy = "remove a cap; guarantees reserve a rate and still lend it to others"
                yield Told((*queue_location(tree.name, parent.path), "queues"), message, remedy)


@kind(
    "caps-to-reserve",
    "warning",
    once=True,
    story="""\
All siblings of this queue are capped, but it has no guarantee. Capping all the others is the usual mistake when
trying to reserve a rate: the caps waste an idle uplink, and on a full one they reserve little. A guarantee reserves
the rate.
""",
    has="""\
trees:
  main:
    queues:
      calls: {guarantee: null, priority: null}
      play: {cap: 50%}
      rest: {cap: 60%, guarantee: null}
rules:
  - {service: calls, queue: calls}
  - {service: play, queue: play}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: null}
      play: {cap: 50%}
      rest: {cap: 60%, guarantee: null}
rules:
  - {service: calls, queue: calls}
  - {service: play, queue: play}
""",
)
def caps_to_reserve(checked: Checked) -> Iterator[Told]:
    """Caps on all siblings but one, in the hope of reserving for it."""
    for tree, _, way, root in checked.uses:
        for parent in root.walk():
            free = [child for child in parent.children if child.cap >= parent.cap]
            if len(free) != 1 or len(parent.children) < 3 or free[0].guarantee or parent.discipline != "weighted":
                continue
            if sum(map(highest_rate, parent.children)) >= parent.cap * NEARLY:
                message = (
                    f"has no guarantee {way}: caps on all its siblings leave capacity idle and reserve little for it"
                )
                remedy = "add a guarantee and remove caps"
                yield Told(queue_location(tree.name, free[0].path), message, remedy)


@kind(
    "strict-starves",
    "warning",
    once=True,
    story="""\
A strict parent serves its children in order and guarantees nothing. If an early child is not capped, the later ones
get nothing for as long as it has packets. Use it only for a little urgent traffic.
""",
    has="""\
trees:
  main:
    discipline: strict
    queues:
      calls: {guarantee: null}
      rest: {guarantee: null}
""",
    lacks="""\
trees:
  main:
    discipline: strict
    queues:
      calls: {guarantee: null, cap: 50%}
      rest: {guarantee: null}
""",
)
def strict_starves(checked: Checked) -> Iterator[Told]:
    """Queues below a strict parent that may get nothing, and who takes it."""
    for tree, uplink, way, root in checked.uses:
        for parent in (spec for spec in root.walk() if spec.discipline == "strict" and spec.children):
            order = sorted({child.priority for child in parent.children})
            for priority in order[:-1]:
                first = [child for child in parent.children if child.priority <= priority]
                if sum(map(highest_rate, first)) >= parent.cap:
                    behind = [child.path for child in parent.children if child.priority > priority]
                    who = " and ".join(child.path for child in first)
                    message = (
                        f"{parent.path or uplink.name} is strict: {who} can take everything {way}, and then "
                        f"{', '.join(behind)} get nothing"
                    )
                    yield Told(
                        (*queue_location(tree.name, parent.path), "discipline"),
                        message,
                        f"cap {first[0].path}, or make the parent weighted",
                    )
                    break


LEAST = 0.5  # of the line


@kind(
    "default-capped",
    "warning",
    once=True,
    story="""\
The default queue holds all traffic that no rule names, including important traffic that the plan does not foresee.
A low cap slows it at any time, even on an idle uplink at night. Guarantees and priorities protect the other queues
without this cost.
""",
    has="""\
trees:
  main:
    queues:
      rest: {cap: 40%}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {cap: 60%}
""",
)
def default_capped(checked: Checked) -> Iterator[Told]:
    """A cap on the queue for everything else, which holds while the line is idle."""
    for tree, uplink, way, root in checked.uses:
        for leaf in root.leaves():
            default = any(each.default for each in tree.leaves if each.path == leaf.path)
            if default and leaf.cap < root.cap * LEAST:
                message = (
                    f"is the default, and has at most {format_rate(leaf.cap)} {way} "
                    f"({format_share(leaf.cap / root.cap)} of {uplink.name}), even while the line is idle"
                )
                remedy = "remove the cap; give the others guarantees and priorities"
                yield Told((*queue_location(tree.name, leaf.path), "cap"), message, remedy)


LONG = SECOND


@kind(
    "limit-delays",
    "warning",
    once=True,
    story="""\
The first long transfer fills a first-in-first-out queue, and from then on every packet waits for all the packets
ahead. A limit in bytes is a delay at the queue's rate.
""",
    has="""\
trees:
  main:
    queues:
      rest: {aqm: fifo, limit: 8 MB}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {aqm: fifo, limit: 500 kB}
""",
)
def limit_delays(checked: Checked) -> Iterator[Told]:
    """A limit that lets packets wait for a second or more."""
    for tree, _, way, root in checked.uses:
        for leaf in root.leaves():
            held = leaf.leaf.aqm == "fifo" and leaf.leaf.most_bytes is not None
            wait = transmission_time(leaf_limit(leaf), leaf.cap) if held else 0
            if wait >= LONG:
                message = f"holds up to {format_size(leaf_limit(leaf))}: {format_time(wait)} {way}, even at its cap"
                yield Told(
                    (*queue_location(tree.name, leaf.path), "limit"),
                    message,
                    "write a time, such as `limit: 100 ms`, or `aqm: fq-codel`",
                )

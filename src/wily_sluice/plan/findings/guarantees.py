"""Findings about guarantees and delays that contradict each other or cannot be kept."""

from collections.abc import Iterator

from wily_sluice.engine.queueing.service_curve import first_slope
from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.findings.finding import queue_location
from wily_sluice.plan.findings.kind import Checked, Level, Told, kind, levels, levels_at_lowest, levels_of_no_line
from wily_sluice.units import Amount, exact_share, format_byte_rate, format_rate, format_time, rates_apart

ROUNDING = 4  # bit/s: shares are rounded to whole bit/s one by one
NEARLY = 1 + 1e-9


def _amounts(level: Level) -> list[Amount]:
    return [amount for queue in level.queues if (amount := queue.guarantee.of(level.direction)) is not None]


def _percent(level: Level) -> float:
    return sum(amount.share or 0 for amount in _amounts(level))


def _sum(level: Level) -> Iterator[Told]:
    total, percent = sum(amount.of(level.guarantee) for amount in _amounts(level)), _percent(level)
    if total <= level.guarantee + ROUNDING and percent <= NEARLY:
        return
    if percent > NEARLY:
        message = f"the guarantees below {level.name} add up to {exact_share(percent)} {level.direction}"
        remedy = "lower them to 100% in total"
    elif level.guarantee == 0:
        message = f"its children have guarantees of {format_rate(total)} {level.direction}, but it has none itself"
        remedy = f"give {level.name} a guarantee"
    else:
        needed, had = rates_apart(total, level.guarantee)
        message = (
            f"the guarantees below {level.name} add up to {needed} ({format_byte_rate(total)}) {level.direction}, "
            f"and it has {had} ({format_byte_rate(level.guarantee)})"
        )
        remedy = "lower them, or write percentages"
    yield Told(level.location, message, remedy)


@kind(
    "guarantees-overbooked",
    "error",
    once=True,
    story="""\
Guarantees must hold when all queues are busy at once. If they add up to more than the parent has, some would be
broken, so the plan is refused.
""",
    has="""\
trees:
  main:
    queues:
      calls: {guarantee: 90%}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {guarantee: 80%}
""",
)
def guarantees_overbooked(checked: Checked) -> Iterator[Told]:
    """Guarantees of siblings that add up to more than their parent has."""
    for level in levels(checked):
        if level.discipline != "strict":
            yield from _sum(level)
    for level in levels_of_no_line(checked):
        if level.discipline != "strict" and _percent(level) > NEARLY:
            yield from _sum(level)


@kind(
    "guarantees-above-lowest",
    "warning",
    once=True,
    story="""\
The rate of this uplink varies, but a guarantee in Mbit/s stays the same. If the guarantees add up to more than the
uplink currently carries, each gets less than promised.
""",
    has="""\
uplinks:
  line: {down: 5 to 50 Mbit/s, probe: [203.0.113.1]}
trees:
  main:
    queues:
      calls: {guarantee: 6 Mbit/s}
""",
    lacks="""\
uplinks:
  line: {down: 5 to 50 Mbit/s, probe: [203.0.113.1]}
trees:
  main:
    queues:
      calls: {guarantee: {down: 3 Mbit/s, up: 6 Mbit/s}}
""",
)
def guarantees_above_lowest(checked: Checked) -> Iterator[Told]:
    """Guarantees that a line that varies cannot keep when it is slowest."""
    for level in levels_at_lowest(checked):
        total = sum(level.guarantee_of(queue) for queue in level.queues)
        if total > level.guarantee + len(level.queues):
            message = (
                f"at the lowest rate, {level.name} has {format_rate(level.guarantee)} {level.direction}, and "
                f"the guarantees below it add up to {format_rate(total)}"
            )
            yield Told(level.location, message, "write percentages, which follow the line, or lower them")


@kind(
    "guarantee-below-strict",
    "error",
    once=True,
    story="""\
A strict parent always serves the first child that has packets and guarantees nothing to the others. A guarantee
below it could not be kept.
""",
    has="""\
trees:
  main:
    discipline: strict
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
def guarantee_below_strict(checked: Checked) -> Iterator[Told]:
    """A guarantee below a strict parent, which gives none."""
    for level in levels(checked):
        for queue in level.queues:
            if level.discipline == "strict" and queue.guarantee.of(level.direction) is not None:
                message = f"{level.name} is strict: it serves by priority alone and guarantees nothing"
                location = level.at(queue, "guarantee")
                yield Told(location, message, "remove it, or make the parent weighted", (Remove(location),))


@kind(
    "guarantee-above-cap",
    "error",
    once=True,
    story="""\
A guarantee is the least that a queue gets under load, a cap the most that it ever gets. The guarantee cannot be
higher.
""",
    has="""\
trees:
  main:
    queues:
      calls: {cap: 10%}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {cap: 50%}
""",
)
def guarantee_above_cap(checked: Checked) -> Iterator[Told]:
    """A guarantee that is more than the cap."""
    for level in levels(checked):
        for queue in level.queues:
            guarantee, cap = level.guarantee_of(queue), level.cap_of(queue)
            if guarantee > cap:
                more, less = rates_apart(guarantee, cap)
                message = f"{more} {level.direction} is guaranteed, but the cap is {less}"
                yield Told(level.at(queue, "guarantee"), message, "a guarantee is at most the cap")


@kind(
    "share-of-nothing",
    "warning",
    once=True,
    story="""\
A percentage of a guarantee is taken from the parent's guarantee. The parent has none, so this is a percentage of
nothing.
""",
    has="""\
trees:
  main:
    queues:
      rest: {guarantee: null, default: null, queues: {bulk: {guarantee: 50%, default: true}}}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {default: null, queues: {bulk: {guarantee: 50%, default: true}}}
""",
)
def share_of_nothing(checked: Checked) -> Iterator[Told]:
    """A guarantee in percent, below a parent that has none."""
    for level in levels(checked):
        for queue in level.queues if level.discipline != "strict" and level.guarantee == 0 else ():
            amount = queue.guarantee.of(level.direction)
            if amount is not None and amount.share:
                message = f"{amount} of nothing: {level.name} has no guarantee {level.direction}"
                yield Told(level.at(queue, "guarantee"), message, f"give {level.name} a guarantee")


@kind(
    "delay-without-guarantee",
    "error",
    once=True,
    story="""\
A delay holds for traffic within a guarantee, because the tree serves these bytes early. Without a guarantee there
is no traffic that it could hold for.
""",
    has="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {delay: 20 ms, priority: null, guarantee: null}
""",
    lacks="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {delay: 20 ms, priority: null, guarantee: 10%}
""",
)
def delay_without_guarantee(checked: Checked) -> Iterator[Told]:
    """A delay without a guarantee within which it could hold."""
    for level in levels(checked):
        for queue in level.queues if level.discipline == "curve" else ():
            delay = queue.leaf.delay
            if delay is not None and level.guarantee_of(queue) == 0:
                message = f"a delay of {format_time(delay)} needs a guarantee {level.direction}"
                yield Told(level.at(queue, "delay"), message, "add a guarantee, such as `guarantee: 10%`")


@kind(
    "delays-overbooked",
    "error",
    once=True,
    story="""\
To keep a delay, the line must be able to send one full packet of each such queue within it. A packet of 1518 bytes
within 1 ms is 12 Mbit/s for that moment. The delays of this plan together need more than the line has.
""",
    has="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {delay: 1 ms, priority: null}
""",
    lacks="""\
trees:
  main:
    discipline: curve
    queues:
      calls: {delay: 5 ms, priority: null}
""",
)
def delays_overbooked(checked: Checked) -> Iterator[Told]:
    """Delays that the line cannot keep all at once: the steepest parts of their curves do not fit into it."""
    for tree, uplink, way, root in checked.uses:
        promised = [
            leaf
            for parent in root.walk()
            if parent.discipline == "curve"
            for leaf in parent.children
            if not leaf.children and leaf.guarantee
        ]
        delayed = [leaf for leaf in promised if leaf.leaf.delay is not None]
        slopes = [first_slope(leaf.guarantee, leaf.leaf.delay, leaf.largest) for leaf in promised]
        if delayed and sum(slopes) > root.cap:
            parts = (f"{leaf.path} {format_rate(slope)}" for leaf, slope in zip(promised, slopes, strict=True))
            needed, had = rates_apart(sum(slopes), root.cap)
            message = (
                f"the delays and guarantees of curve parents need {needed}, "
                f"but {uplink.name} {way} has {had}: {', '.join(parts)}"
            )
            remedy = f"allow longer delays: one packet of {delayed[0].largest} B within a delay is a rate"
            yield Told((*queue_location(tree.name, delayed[0].path), "delay"), message, remedy)

"""What is wrong, or doubtful, in a plan's trees: guarantees that add up to more than there is, delays that nobody can
keep, words that mean nothing where they stand.

The sums depend on the rates, so each tree is gone through for each uplink and direction that it is for; what is wrong
for several is told once.
"""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from wily_sluice.engine.queueing.service_curve import first_slope
from wily_sluice.engine.queueing.spec import USUAL_PRIORITY, Discipline, QueueSpec
from wily_sluice.plan.file.document import Document, Reading
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.model import Directional, Plan, Queue, Tree, Uplink
from wily_sluice.plan.rates import cap_of, guarantee_of, resolve
from wily_sluice.units import (
    DIRECTIONS,
    HIGHEST_RATE,
    Direction,
    Rate,
    format_rate,
    format_rate_both,
    format_share,
    format_time,
)

ROUNDING = 4  # bit/s: shares are rounded to whole bit/s one by one


def check_trees(plan: Plan, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    """All findings about trees, each once."""
    told: set[str] = set()
    for finding in _check_trees(plan, reading):
        if finding.key not in told:
            told.add(finding.key)
            yield finding


def _check_trees(plan: Plan, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    document = reading.document
    for tree in plan.trees.values():
        yield from _default_leaf(tree, reading)
        yield from _disciplines(tree, document)
        if not reading.cut:
            yield from _unused(plan, tree, document)
        # Without an uplink that could be read, or that has it, a tree's percentages can still be added up.
        own = Directional(tree.name, tree.name)
        uses = [(u, d) for u in plan.uplinks for d in DIRECTIONS if u.tree.of(d) == tree.name]
        nobody = Uplink("the line", "", HIGHEST_RATE, HIGHEST_RATE, 0.0, tree=own)
        for uplink, direction in uses or [(nobody, direction) for direction in DIRECTIONS]:
            usable = uplink.usable(direction)
            above = _Above(uplink.name, "", tree.discipline, usable, usable, direction)
            if not uses:
                yield from _percentages(tree, document, tree.queues, above)
                continue
            yield from _guarantees_below(tree, document, tree.queues, above)
            yield from _what_caps_leave(plan, tree, document, replace(uplink, tree=own), direction)
            yield from _delays(plan, tree, document, replace(uplink, tree=own), direction)


def queue_location(tree: Tree, path: str) -> Location:
    """Where a queue of a tree stands in the file; the tree itself for the empty path."""
    parts = path.split("/") if path else []
    return ("trees", tree.name, *(word for name in parts for word in ("queues", name)))


def _default_leaf(tree: Tree, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    document = reading.document
    defaults = [queue for queue in tree.walk() if queue.default]
    for queue in defaults:
        if queue.children:
            location = (*queue_location(tree, queue.path), "default")
            yield document.error(location, "a parent cannot be the default", "mark one of its leaves")
    for queue in defaults[1:]:
        location = (*queue_location(tree, queue.path), "default")
        yield document.error(location, f"{defaults[0].path} is the default already", "mark exactly one leaf")
    if not defaults and tree.queues and not any(cut[:2] in (("trees",), ("trees", tree.name)) for cut in reading.cut):
        message = "no leaf is the default, for traffic that no rule claims"
        yield document.error(("trees", tree.name), message, "add `default: true`")


def _disciplines(tree: Tree, document: Document) -> Iterator[Finding]:
    """Words that mean nothing below a parent of this discipline."""
    parents = [("", tree.discipline, tree.queues), *((q.path, q.discipline, q.children) for q in tree.walk())]
    for path, discipline, children in parents:
        name = path or tree.name
        for child in children:
            here = queue_location(tree, child.path)
            if child.leaf.delay is not None and discipline != "curve":
                message = f"{name} is {discipline}: only a curve parent keeps delays"
                yield document.error((*here, "delay"), message, f"write `discipline: curve` at {name}, or take it out")
            if child.priority != USUAL_PRIORITY and discipline == "curve":
                message = f"{name} is a curve parent, whose children have no priorities"
                yield document.warning((*here, "priority"), message, "give it a guarantee with a delay, or a weight")


def _unused(plan: Plan, tree: Tree, document: Document) -> Iterator[Finding]:
    if plan.uplinks and not any(tree.name in (uplink.tree.up, uplink.tree.down) for uplink in plan.uplinks):
        message = "no uplink has this tree"
        yield document.warning(("trees", tree.name), message, f"name it at an uplink, `tree: {tree.name}`")
        return
    fed = {rule.queues.get(tree.name) for rule in plan.rules}
    for leaf in tree.leaves:
        if leaf.path not in fed and not leaf.default:
            message = "no rule sorts anything into this queue"
            yield document.warning(queue_location(tree, leaf.path), message, "add a rule, or take it out")


@dataclass(frozen=True, slots=True)
class _Above:
    """What stands above some queues: its name for a person, its path, and its rates in one direction."""

    name: str
    path: str
    discipline: Discipline
    guarantee: Rate
    cap: Rate
    direction: Direction


def _guarantees_below(tree: Tree, document: Document, queues: tuple[Queue, ...], above: _Above) -> Iterator[Finding]:
    strict = above.discipline == "strict"
    if not strict:
        yield from _sum_of_guarantees(tree, document, queues, above)
    for queue in queues:
        here = queue_location(tree, queue.path)
        amount, planned_cap = queue.guarantee.of(above.direction), queue.cap.of(above.direction)
        if strict and amount is not None:
            message = f"{above.name} is strict: it serves by priority alone and guarantees nothing"
            yield document.error((*here, "guarantee"), message, "take it out, or make the parent weighted")
            continue
        guarantee = 0 if strict else guarantee_of(queue, above.direction, above.guarantee)
        cap = cap_of(queue, above.direction, above.cap)
        if planned_cap is not None and planned_cap.rate is not None and planned_cap.rate > above.cap:
            message = f"{format_rate_both(planned_cap.rate)} {above.direction} is above what {above.name} may have"
            yield document.warning((*here, "cap"), message, f"that is {format_rate_both(above.cap)}")
        if guarantee > cap:
            message = f"{format_rate(guarantee)} {above.direction} is guaranteed, but the cap is {format_rate(cap)}"
            yield document.error((*here, "guarantee"), message, "a guarantee is at most the cap")
        if amount is not None and amount.share and above.guarantee == 0:
            message = f"{amount} of nothing: {above.name} has no guarantee {above.direction} to share out"
            yield document.warning((*here, "guarantee"), message, f"give {above.name} a guarantee")
        if queue.leaf.delay is not None and above.discipline == "curve" and guarantee == 0:
            message = f"there is no guarantee {above.direction} within which {format_time(queue.leaf.delay)} could hold"
            yield document.error((*here, "delay"), message, "add a guarantee, such as `guarantee: 10%`")
        if queue.children:
            below = _Above(queue.path, queue.path, queue.discipline, guarantee, cap, above.direction)
            yield from _guarantees_below(tree, document, queue.children, below)


def _percentages(tree: Tree, document: Document, queues: tuple[Queue, ...], above: _Above) -> Iterator[Finding]:
    """What percentages say by themselves, where the rates are not known."""
    if above.discipline != "strict":
        shares = sum(a.share or 0 for queue in queues if (a := queue.guarantee.of(above.direction)) is not None)
        if shares > 1 + 1e-9:
            yield from _sum_of_guarantees(tree, document, queues, above)
    for queue in queues:
        if queue.children:
            below = replace(above, name=queue.path, path=queue.path, discipline=queue.discipline)
            yield from _percentages(tree, document, queue.children, below)


def _sum_of_guarantees(tree: Tree, document: Document, queues: tuple[Queue, ...], above: _Above) -> Iterator[Finding]:
    amounts = [amount for queue in queues if (amount := queue.guarantee.of(above.direction)) is not None]
    total = sum(amount.of(above.guarantee) for amount in amounts)
    percent = sum(amount.share or 0 for amount in amounts)
    if total <= above.guarantee + ROUNDING and percent <= 1 + 1e-9:
        return
    if percent > 1 + 1e-9:
        message = f"the guarantees below {above.name} add up to {format_share(percent)} {above.direction}"
        remedy = "lower them to at most 100% together"
    elif above.guarantee == 0:
        message = f"its children are guaranteed {format_rate(total)} {above.direction}, but it has no guarantee itself"
        remedy = f"give {above.name} a guarantee"
    else:
        message = (
            f"the guarantees below {above.name} add up to {format_rate_both(total)} {above.direction}, "
            f"and it has {format_rate_both(above.guarantee)}"
        )
        remedy = "lower them, or write percentages"
    yield document.error((*queue_location(tree, above.path), "queues"), message, remedy)


def _what_caps_leave(
    plan: Plan, tree: Tree, document: Document, uplink: Uplink, direction: Direction
) -> Iterator[Finding]:
    """Whether the default leaf can starve, and whether caps keep queues from using all that there is."""
    spec = resolve(plan, uplink, direction)
    for default in (leaf for leaf in tree.leaves if leaf.default):
        first = _starved_by(spec, default.path)
        if first:
            message = f"can starve {direction}: {first} may take all before it, and it has no guarantee"
            yield document.warning(queue_location(tree, default.path), message, "add a guarantee, such as 5%")
    for parent in spec.walk():
        if not parent.children:
            continue
        name, whole = parent.path or uplink.name, sum(map(_most, parent.children))
        if whole < parent.cap * 0.99:
            message = (
                f"{format_rate(parent.cap - whole)} of {name} {direction} can never be used: the caps add up to less"
            )
            remedy = "take a cap out; guarantees reserve a rate without keeping it from others"
            yield document.warning((*queue_location(tree, parent.path), "queues"), message, remedy)
            continue
        free = [child for child in parent.children if child.cap >= parent.cap]
        if len(free) == 1 and len(parent.children) > 2 and not free[0].guarantee and parent.discipline == "weighted":
            message = (
                f"has no guarantee {direction}: caps on all the others leave capacity idle, and reserve little for it"
            )
            yield document.warning(queue_location(tree, free[0].path), message, "add a guarantee, and take caps out")


def _most(spec: QueueSpec) -> Rate:
    """The most that a queue can ever carry."""
    return min(spec.cap, sum(map(_most, spec.children))) if spec.children else spec.cap


def _starved_by(spec: QueueSpec, path: str) -> str:
    """Who may take all before a leaf, at some level above it; empty where it always gets something."""
    rate = spec.cap
    while spec.children:
        own = next(child for child in spec.children if path == child.path or path.startswith(f"{child.path}/"))
        others = [child for child in spec.children if child is not own]
        earlier = [child for child in others if child.priority < own.priority and spec.discipline != "curve"]
        taken = sum(_most(child) if child in earlier else child.guarantee for child in others)
        if earlier and not own.guarantee and taken >= rate:
            return " and ".join(child.path for child in earlier)
        rate = max(own.guarantee, min(own.cap, rate - taken)) if spec.discipline != "curve" else own.cap
        spec = own
    return ""


def _delays(plan: Plan, tree: Tree, document: Document, uplink: Uplink, direction: Direction) -> Iterator[Finding]:
    """Whether the line can keep all delays at once: the steepest parts of their curves together fit into it."""
    if not any(leaf.leaf.delay is not None for leaf in tree.leaves):
        return
    spec = resolve(plan, uplink, direction)
    promised = [
        leaf
        for parent in spec.walk()
        if parent.discipline == "curve"
        for leaf in parent.children
        if not leaf.children and leaf.guarantee
    ]
    needed = sum(first_slope(leaf.guarantee, leaf.leaf.delay, leaf.largest) for leaf in promised)
    delayed = [leaf for leaf in promised if leaf.leaf.delay is not None]
    if needed > spec.cap and delayed:
        parts = (
            f"{leaf.path} {format_rate(first_slope(leaf.guarantee, leaf.leaf.delay, leaf.largest))}"
            for leaf in promised
        )
        message = (
            f"to keep all delays and guarantees of curve parents takes {format_rate(needed)}, "
            f"and {uplink.name} {direction} has {format_rate(spec.cap)}: {', '.join(parts)}"
        )
        remedy = f"allow longer delays: a packet of {delayed[0].largest} B within a delay is a rate"
        yield document.error((*queue_location(tree, delayed[0].path), "delay"), message, remedy)

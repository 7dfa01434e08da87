"""What is wrong, or doubtful, in a plan whose parts are each in order: sums, order, and what nobody uses."""

from collections.abc import Iterator
from dataclasses import dataclass

from wily_sluice.engine.addresses import AddressSet
from wily_sluice.engine.spec import Discipline
from wily_sluice.plan.document import Document, Location, Reading
from wily_sluice.plan.finding import Finding
from wily_sluice.plan.model import Plan, Queue, Uplink
from wily_sluice.plan.rates import cap_of, guarantee_of
from wily_sluice.plan.schema import PlanEntry
from wily_sluice.units import (
    DIRECTIONS,
    HIGHEST_RATE,
    Direction,
    Rate,
    format_rate,
    format_rate_both,
    format_share,
)

ROUNDING = 4  # bit/s: shares are rounded to whole bit/s one by one


def check(plan: Plan, reading: Reading[PlanEntry]) -> list[Finding]:
    """All findings, errors and warnings, beyond those of reading the file."""
    document = plan.document
    return [
        *_missing(reading),
        *_default_leaf(plan, reading),
        *_guarantees(plan, document),
        *_interfaces(plan, document),
        *_networks(plan, document),
        *_headroom(plan, document),
        *_binary_prefixes(plan, document),
        *_limiters(plan, reading),
        *_rules(plan, reading),
        *_unused(plan, reading),
    ]


def queue_location(plan: Plan, path: str) -> Location:
    """Where a queue stands in the file."""
    parts = path.split("/")
    return ("trees", plan.tree.name, *(word for name in parts for word in ("queues", name)))


def _missing(reading: Reading[PlanEntry]) -> Iterator[Finding]:
    for key in ("site", "uplinks", "trees"):
        if not getattr(reading.content, key) and not any(cut[:1] == (key,) for cut in reading.cut):
            examples = PlanEntry.model_fields[key].examples or []
            yield reading.document.error((key,), f"“{key}” is missing", f"add {key}: {examples[0]}")


def _default_leaf(plan: Plan, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    document, tree = reading.document, ("trees", plan.tree.name)
    defaults = [queue for queue in plan.tree.walk() if queue.default]
    for queue in defaults:
        if queue.children:
            location = (*queue_location(plan, queue.path), "default")
            yield document.error(location, "a parent cannot be the default", "mark one of its leaves")
    for queue in defaults[1:]:
        location = (*queue_location(plan, queue.path), "default")
        yield document.error(location, f"{defaults[0].path} is the default already", "mark exactly one leaf")
    if not defaults and plan.tree.queues and not any(cut[:1] == ("trees",) for cut in reading.cut):
        yield document.error(tree, "no leaf is the default, for traffic that no rule claims", "add `default: true`")


def _guarantees(plan: Plan, document: Document) -> Iterator[Finding]:
    """Brothers' guarantees against their parent's, and guarantees against caps; each place is told of once."""
    told: set[str] = set()
    # Without an uplink that could be read, percentages can still be added up.
    for uplink in plan.uplinks or (Uplink("the line", "", HIGHEST_RATE, HIGHEST_RATE, 0.0),):
        for direction in DIRECTIONS:
            usable = uplink.usable(direction)
            top = _Above(uplink.name, "", plan.tree.discipline, usable, usable, direction)
            for finding in _guarantees_below(plan, document, plan.tree.queues, top):
                if finding.key not in told:
                    told.add(finding.key)
                    yield finding


@dataclass(frozen=True, slots=True)
class _Above:
    """What stands above some queues: its name for a person, its path, and its rates in one direction."""

    name: str
    path: str
    discipline: Discipline
    guarantee: Rate
    cap: Rate
    direction: Direction


def _guarantees_below(plan: Plan, document: Document, queues: tuple[Queue, ...], above: _Above) -> Iterator[Finding]:
    strict = above.discipline == "strict"
    if not strict:
        yield from _sum_of_guarantees(plan, document, queues, above)
    for queue in queues:
        here = queue_location(plan, queue.path)
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
        if queue.children:
            below = _Above(queue.path, queue.path, queue.discipline, guarantee, cap, above.direction)
            yield from _guarantees_below(plan, document, queue.children, below)


def _sum_of_guarantees(plan: Plan, document: Document, queues: tuple[Queue, ...], above: _Above) -> Iterator[Finding]:
    amounts = [amount for queue in queues if (amount := queue.guarantee.of(above.direction)) is not None]
    total = sum(amount.of(above.guarantee) for amount in amounts)
    percent = sum(amount.share or 0 for amount in amounts)
    if total <= above.guarantee + ROUNDING and percent <= 1 + 1e-9:
        return
    owner = queue_location(plan, above.path) if above.path else ("trees", plan.tree.name)
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
    yield document.error((*owner, "queues"), message, remedy)


def _interfaces(plan: Plan, document: Document) -> Iterator[Finding]:
    owners: dict[str, str] = {}
    for kind, parts in (("uplinks", plan.uplinks), ("networks", plan.networks)):
        for part in parts:
            if part.interface in owners:
                message = f"{part.interface} is the interface of {owners[part.interface]} already"
                yield document.error((kind, part.name, "interface"), message, "each has its own")
            owners.setdefault(part.interface, part.name)


def _networks(plan: Plan, document: Document) -> Iterator[Finding]:
    for place, network in enumerate(plan.networks):
        for earlier in plan.networks[:place]:
            if overlap := network.addresses & earlier.addresses:
                message = f"{overlap} is in {earlier.name} too"
                yield document.error(("networks", network.name, "subnets"), message, "a host is in one network")


def _headroom(plan: Plan, document: Document) -> Iterator[Finding]:
    for uplink in plan.uplinks:
        location = ("uplinks", uplink.name, "headroom")
        if uplink.headroom >= 1:
            yield document.error(location, "nothing of the line is left to use", "write it like 8%")
        elif uplink.headroom < 0.02:
            message = f"with {format_share(uplink.headroom)} left free the queue forms in the modem, beyond our reach"
            yield document.warning(location, message, "5% to 10% is usual")


def _binary_prefixes(plan: Plan, document: Document) -> Iterator[Finding]:
    """A rate that is a whole number of 1024 kbit/s was most likely worked out with the wrong factor.

    1024 and 2048 kbit/s themselves are rates that lines are sold with.
    """
    rates = [(("uplinks", u.name, way), u.measured(way)) for u in plan.uplinks for way in DIRECTIONS]
    rates += [(("limiters", lim.name, way), lim.rate(way) or 0) for lim in plan.limiters for way in DIRECTIONS]
    for location, rate in rates:
        for binary, decimal in ((2**20, 10**6), (1024 * 1000, 10**6)):
            times = rate // binary
            if rate % binary == 0 and times > 2 and rate % decimal:
                message = f"{format_rate(rate)} is {times} × {binary:,} bit/s, and 1 Mbit/s is 1,000,000 bit/s"
                yield document.warning(location, message, f"write {times} Mbit/s, if that is what you mean")
                break


def _limiters(plan: Plan, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    document = reading.document
    for limiter in plan.limiters:
        here = ("limiters", limiter.name)
        if limiter.down is None and limiter.up is None:
            if not any(reading.was_cut(*here, key) for key in ("up", "down")):
                yield document.error(here, "caps neither up nor down", "add `down: 6 Mbit/s`, `up: 1 Mbit/s` or both")
            continue
        yield from _outside(plan, reading, (*here, "local"), limiter.local.addresses)
        for direction in DIRECTIONS:
            rate = limiter.rate(direction)
            widest = max((uplink.usable(direction) for uplink in plan.uplinks), default=HIGHEST_RATE)
            if rate is not None and rate >= widest:
                message = f"{format_rate_both(rate)} is no cap: no uplink has more than {format_rate_both(widest)}"
                yield document.warning((*here, direction), message, f"lower it, or take “{direction}” out")


def _rules(plan: Plan, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    document = reading.document
    catch_all = None
    for rule in plan.rules:
        here = ("rules", rule.place)
        if catch_all is not None:
            message = f"is never reached: {catch_all.name} above it matches everything"
            yield document.warning(here, message, "move it up")
        elif rule.is_catch_all:
            catch_all = rule
        if rule.local is not None:
            yield from _outside(plan, reading, (*here, "local"), rule.local.addresses)
        if rule.ports and rule.protocols and not set(rule.protocols) & {6, 17, 33, 132, 136}:
            yield document.error((*here, "port"), "this protocol has no ports", "take “port” or “protocol” out")


def _outside(plan: Plan, reading: Reading[PlanEntry], location: Location, addresses: AddressSet) -> Iterator[Finding]:
    networks_are_whole = not any(cut[:1] == ("networks",) for cut in reading.cut)
    if networks_are_whole and addresses and not addresses & plan.hosts:
        message = f"{addresses} is in no network of the plan, so no host of yours is meant"
        yield reading.document.warning(location, message, "name one of: " + ", ".join(n.name for n in plan.networks))


def _unused(plan: Plan, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    if reading.cut or reading.content is None:
        return
    fed = {rule.queue for rule in plan.rules}
    for leaf in plan.tree.leaves:
        if leaf.path not in fed and not leaf.default:
            yield reading.document.warning(
                queue_location(plan, leaf.path), "no rule sorts anything into this queue", "add a rule, or take it out"
            )
    parties = [limiter.local for limiter in plan.limiters]
    parties += [party for rule in plan.rules for party in (rule.local, rule.remote) if party is not None]
    named = {word for party in parties for word in party.words}
    named |= {word for members in reading.content.groups.values() for word in members}
    for group in plan.groups:
        if group not in named:
            yield reading.document.warning(("groups", group), "nothing names this group", "use it, or take it out")

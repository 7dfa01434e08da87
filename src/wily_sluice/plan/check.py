"""What is wrong, or doubtful, in a plan whose parts are each in order: order, overlaps, and what nobody uses.

The trees have a file of their own, `check_trees`.
"""

from collections.abc import Iterator

from wily_sluice.engine.addresses import AddressSet
from wily_sluice.plan.check_trees import check_trees
from wily_sluice.plan.document import Document, Location, Reading
from wily_sluice.plan.finding import Finding
from wily_sluice.plan.model import Plan
from wily_sluice.plan.schema import PlanEntry
from wily_sluice.units import (
    DIRECTIONS,
    HIGHEST_RATE,
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
        *check_trees(plan, reading),
        *_interfaces(plan, document),
        *_networks(plan, document),
        *_headroom(plan, document),
        *_binary_prefixes(plan, document),
        *_limiters(plan, reading),
        *_rules(plan, reading),
        *_unused(plan, reading),
    ]


def _missing(reading: Reading[PlanEntry]) -> Iterator[Finding]:
    for key in ("site", "uplinks", "trees"):
        if not getattr(reading.content, key) and not any(cut[:1] == (key,) for cut in reading.cut):
            examples = PlanEntry.model_fields[key].examples or []
            yield reading.document.error((key,), f"“{key}” is missing", f"add {key}: {examples[0]}")


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
        missing = [tree for name, tree in plan.trees.items() if rule.queues and name not in rule.queues]
        for tree in missing:
            lines = [u.name for u in plan.uplinks if tree.name in (u.tree.up, u.tree.down)]
            if lines and any(leaf.default for leaf in tree.leaves):
                message = (
                    f"tree {tree.name}, of {' and '.join(lines)}, has no such queue: there it is {tree.default.path}"
                )
                yield document.warning(
                    (*here, "queue"), message, f"write {{…, {tree.name}: QUEUE}}, if another is meant"
                )
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
    parties = [limiter.local for limiter in plan.limiters]
    parties += [party for rule in plan.rules for party in (rule.local, rule.remote) if party is not None]
    named = {word for party in parties for word in party.words}
    named |= {word for members in reading.content.groups.values() for word in members}
    for group in plan.groups:
        if group not in named:
            yield reading.document.warning(("groups", group), "nothing names this group", "use it, or take it out")

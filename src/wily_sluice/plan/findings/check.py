"""What is wrong, or doubtful, in a plan whose parts are each in order: order, overlaps, and what nobody uses.

The trees have a file of their own, `check_trees`.
"""

from collections.abc import Iterator
from contextlib import suppress
from ipaddress import ip_network

from wily_sluice.engine.classify.classifier import MOST_LENGTHS
from wily_sluice.engine.conversations.watch import MOST_RATES
from wily_sluice.plan.file.document import Document, Reading
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.findings.check_limiters import WITH_PORTS, check_limiters, outside, wrong_remote
from wily_sluice.plan.findings.check_order import check_order
from wily_sluice.plan.findings.check_trees import check_trees
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.model import Plan
from wily_sluice.plan.reach.regions import TooInvolvedError
from wily_sluice.plan.reach.space import moments
from wily_sluice.units import DIRECTIONS, Nanoseconds, Rate, Size, format_rate, format_share

SLOWEST: Rate = 32_000  # bit/s
WIDEST = {4: 8, 6: 16}  # prefix lengths, of both versions of IP


def check(plan: Plan, reading: Reading[PlanEntry]) -> list[Finding]:
    """All findings, errors and warnings, beyond those of reading the file."""
    document = plan.document
    return [
        *_missing(reading),
        *check_trees(plan, reading),
        *_interfaces(plan, document),
        *_networks(plan, document),
        *_everything(plan, document),
        *_headroom(plan, document),
        *_slow(plan, document),
        *_binary_prefixes(plan, document),
        *check_limiters(plan, reading),
        *_rules(plan, reading),
        *(check_order(plan, reading) if not reading.cut else ()),
        *_watched(plan, document),
        *_schedules(plan, document),
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


def _everything(plan: Plan, document: Document) -> Iterator[Finding]:
    """A network that is most of the internet: then nearly all that is remote would be local."""
    for network in plan.networks:
        for place, subnet in enumerate(network.subnets):
            prefix = ip_network(subnet)
            if prefix.prefixlen < WIDEST[prefix.version]:
                message = f"{subnet} is much of the internet, and not a network of your own hosts"
                yield document.warning(
                    ("networks", network.name, "subnets", place), message, "write the subnet of your hosts"
                )


def _slow(plan: Plan, document: Document) -> Iterator[Finding]:
    for uplink in plan.uplinks:
        for way in DIRECTIONS:
            if uplink.usable(way) < SLOWEST:
                message = f"{format_rate(uplink.measured(way))} is slower than any line: is the unit right?"
                yield document.warning(("uplinks", uplink.name, way), message, "write it like 24 Mbit/s")


def _schedules(plan: Plan, document: Document) -> Iterator[Finding]:
    """Those that never hold; whether one with a calendar does is not known here."""
    for schedule in plan.schedules.values():
        if schedule.calendars:
            continue
        with suppress(TooInvolvedError):
            if (True,) not in moments([schedule]):
                message = "never holds: its windows, dates and exceptions leave no moment"
                yield document.warning(("schedules", schedule.name), message, "take something out of it")


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


def _rules(plan: Plan, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    document = reading.document
    for rule in plan.sorting:
        here = ("rules", rule.place)
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
        for terms in rule.terms.walk():
            if terms.local is not None:
                yield from outside(plan, reading, (*here, "local"), terms.local)
            yield from wrong_remote(plan, document, (*here, "remote"), terms.remote)
            for key, ports in (("port", terms.ports), ("local-port", terms.local_ports)):
                if ports and terms.protocols and not set(terms.protocols) & WITH_PORTS:
                    yield document.error((*here, key), "this protocol has no ports", "take “port” or “protocol” out")


def _watched(plan: Plan, document: Document) -> Iterator[Finding]:
    """Each rate and length that rules ask for costs every packet something, so there is a limit to how many."""
    met: set[tuple[Rate, Nanoseconds]] = set()
    lengths: set[Size] = set()
    for rule in plan.sorting:
        for terms in rule.terms.walk():
            if terms.rate is not None and terms.rate not in met:
                met.add(terms.rate)
                if len(met) > MOST_RATES:
                    message = f"is the {len(met)}th different rate that rules ask for; there may be {MOST_RATES}"
                    yield document.error(("rules", rule.place, "rate"), message, "use one of the others")
            length = terms.asked.get("length")
            if length is not None and length[0] not in lengths:
                lengths.add(length[0])
                if len(lengths) > MOST_LENGTHS:
                    message = (
                        f"is the {len(lengths)}th different length that rules ask for; the limit is {MOST_LENGTHS}"
                    )
                    yield document.error(("rules", rule.place, "length"), message, "use one of the others")


def _unused(plan: Plan, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    if reading.cut or reading.content is None:
        return
    parties = [party for limiter in plan.limiters for party in (limiter.local, limiter.remote)]
    asked = [terms for rule in plan.rules for terms in rule.terms.walk()]
    parties += [party for terms in asked for party in (terms.local, terms.remote)]
    named = {word for party in parties if party is not None for word in party.words}
    entries = reading.content.groups.values()
    named |= {word for entry in entries for word in (*entry.members, *entry.except_)}
    named |= {word for service in reading.content.services.values() for word in service.remote or ()}
    ports = [
        *(
            words
            for rule in reading.content.rules
            if rule
            for terms in rule.walk()
            for words in map(terms.said, ("port", "local-port", "remote-port"))
        ),
        *(e.port for e in reading.content.limiters.values()),
    ]
    named |= {word for words in ports if words for word in words if isinstance(word, str)}
    for group in plan.groups:
        if group not in named:
            yield reading.document.warning(("groups", group), "nothing names this group", "use it, or take it out")
    called = {word for rule in plan.rules for terms in rule.terms.walk() for word in terms.service_words}
    called |= {word for limiter in plan.limiters for word in limiter.service_words}
    for service in plan.services.values():
        if service.own and not {service.name, service.category} & called and service.name in reading.content.services:
            yield reading.document.warning(("services", service.name), "nothing names this service", "use it in a rule")
    for schedule in plan.schedules:
        if schedule not in {limiter.when for limiter in plan.limiters} | {terms.when for terms in asked}:
            yield reading.document.warning(
                ("schedules", schedule), "nothing names this schedule", "use it, or take it out"
            )

"""The effect of a plan as plain values: two plans have the same effect exactly if these values are equal.

They leave out places in the file, words that name other parts, and parts without effect: trees that no uplink uses, the
peak of a limiter whose excess waits. Queues are listed for each uplink and direction with their resulting figures; for
an uplink that varies, also with the figures at its lowest rate.
"""

from collections.abc import Hashable, Iterator, Mapping, Sequence
from dataclasses import fields, is_dataclass
from typing import Any, TypeAlias

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.plan.model import Limiter, Plan, Route, Rule, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.reach.regions import ranges
from wily_sluice.plan.schedules.schedule import CalendarFile
from wily_sluice.plan.terms import Grant, Services, Terms
from wily_sluice.units import DIRECTIONS, Direction

Values: TypeAlias = dict[str, Hashable]  # of a part, by what they are called
Parts: TypeAlias = dict[str, Values]  # by name

_WORDS = {
    "Party": {"words"},
    "FramingWords": {"words"},
    "Tunnel": {"name", "words"},
    "Window": {"words"},
    "Service": {"name", "about", "own"},
    "Schedule": {"name"},
    "Network": {"name", "subnets"},
    "Uplink": {"name", "tree", "refuses", "up", "down", "headroom"},
    "Limiter": {
        "name",
        "local",
        "network",
        "remote",
        "protocols",
        "ports",
        "services",
        "service_words",
        "transports",
        "burst",
    },
    "Rule": {"index", "queues"},
    "Route": {"index"},
    "Grant": {"index"},
}
_PORTS = ("port", "local-port", "remote-port")


def plain(value: Any) -> Hashable:
    """A value of a plan as one that can be compared, without the words that say it."""
    if isinstance(value, Terms):
        return _terms(value)
    if is_dataclass(value):
        return tuple((name, plain(held)) for name, held in _fields(value))
    if isinstance(value, Services):
        return frozenset(map(plain, value.services))
    if isinstance(value, CalendarFile):
        return value.digest
    if isinstance(value, Mapping):
        return frozenset((key, plain(held)) for key, held in value.items())
    if isinstance(value, (AddressSet, tuple, list)):
        return tuple(plain(held) for held in value)
    return value  # type: ignore[no-any-return]  # words, figures, and sets of them


def _fields(value: Any) -> Iterator[tuple[str, Any]]:
    left_out = _WORDS.get(type(value).__name__, set())
    return ((f.name, getattr(value, f.name)) for f in fields(value) if f.name not in left_out)


def _terms(terms: Terms) -> Hashable:
    """A list matches if one entry does, in any order."""
    asked = {
        key: ranges(value)
        if key in _PORTS
        else frozenset(value)
        if type(value) is tuple and key in _LISTS
        else plain(value)
        for key, value in terms.asked.items()
    }
    blocks = (frozenset(map(_terms, block)) for block in (terms.any, terms.all, terms.none))
    return (frozenset(asked.items()), *blocks)


_LISTS = ("protocol", "dscp", "uplink")


def values_of(part: Any) -> Values:
    """Everything that a part says, by the names of its fields."""
    return {name.replace("_", "-"): plain(value) for name, value in _fields(part)}


def uplinks(plan: Plan) -> Parts:
    """The lines."""
    return {
        uplink.name: values_of(uplink) | {f"usable {way}": uplink.usable(way) for way in DIRECTIONS}
        for uplink in plan.uplinks
    }


def queue_specs(plan: Plan, uplink: Uplink, way: Direction) -> dict[str, QueueSpec]:
    """The queues of an uplink in one direction by their paths, with the root at the empty one."""
    if uplink.tree.of(way) is None:
        return {}
    return {spec.path: spec for spec in resolve(plan, uplink, way).walk()}


def queues(plan: Plan, uplink: Uplink) -> Parts:
    """The queues of an uplink, by their paths."""
    parts: Parts = {}
    for way in DIRECTIONS:
        for path, spec in queue_specs(plan, uplink, way).items():
            parts.setdefault(path, {})[way] = _queue(plan, uplink, way, spec)
        lowest = uplink.lowest.of(way)
        for path, spec in queue_specs(plan, uplink.at(way, lowest), way).items() if lowest is not None else ():
            parts[path][f"{way} at the lowest rate"] = (spec.guarantee, spec.cap)
    return parts


def _queue(plan: Plan, uplink: Uplink, way: Direction, spec: QueueSpec) -> Hashable:
    own = spec.discipline if spec.children else plain(spec.leaf)
    default = any(leaf.default and leaf.path == spec.path for leaf in plan.tree(uplink, way).leaves)
    return (spec.guarantee, spec.cap, spec.priority, spec.weight, bool(spec.children), own, default)


def limiter(limiter: Limiter) -> Values:
    """A limiter."""
    meters = limiter.excess != "wait"
    values = values_of(limiter)
    del values["round-trip"]  # makes the burst
    if not meters:
        values["peak"] = values["excess-burst"] = None
    for way in DIRECTIONS:
        rate = limiter.rate(way)
        values[f"burst {way}"] = limiter.burst_of(rate) if rate is not None else None
        second = limiter.second_burst(rate, limiter.peak.of(way)) if rate is not None and meters else None
        values[f"excess burst {way}"] = second
    return values | {"terms": plain(limiter.terms)}


def rule(plan: Plan, rule: Rule) -> Values:
    """A rule; where it leads, by uplink and direction."""
    leads: dict[tuple[str, str], str | None] = {}
    for uplink in plan.uplinks if rule.queues else ():
        for way in DIRECTIONS:
            if uplink.tree.of(way) is not None:
                leads[uplink.name, way] = rule.queues.get(plan.tree(uplink, way).name)
    return values_of(rule) | {"leads": plain(leads)}


def in_order(plan: Plan, parts: Sequence[Rule | Route | Grant]) -> list[tuple[str, Values]]:
    """The parts of a list, each with its name."""
    return [(part.name, rule(plan, part) if isinstance(part, Rule) else values_of(part)) for part in parts]


def settings(plan: Plan) -> Parts:
    """Settings without a name."""
    return {
        "site": {"": plan.site},
        "timezone": {"": plan.timezone},
        "keep-ports": {"": plain(plan.steady)},
        "gate": values_of(plan.gate),
    }


def named(plan: Plan) -> dict[str, Parts]:
    """The other parts that have names, by their kinds."""
    return {
        "tunnel": {tunnel.name: values_of(tunnel) for tunnel in plan.tunnels},
        "network": {network.name: values_of(network) for network in plan.networks},
        "host": {name: values_of(members) for name, members in plan.named_hosts.items()},
        "group": {name: values_of(members) for name, members in plan.groups.items()},
        "schedule": {name: values_of(schedule) for name, schedule in plan.schedules.items()},
        "service": {name: values_of(service) for name, service in plan.services.items()},
    }


def effect(plan: Plan, rules: bool = True) -> Hashable:
    """The whole effect; without `rules`, the rules are left out."""
    whole: dict[str, Any] = {
        "plan": settings(plan),
        "uplinks": uplinks(plan),
        **{f"queues on {uplink.name}": queues(plan, uplink) for uplink in plan.uplinks},
        "limiters": {each.name: limiter(each) for each in plan.limiters},
        "rules": in_order(plan, plan.rules) if rules else (),
        "routes": in_order(plan, plan.routes),
        "mappings": in_order(plan, plan.grants),
        **named(plan),
    }
    return plain(whole)

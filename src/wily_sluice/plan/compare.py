"""The differences between two plans, in words: uplinks, networks, queues, limiters, rules, and everything else.

Queues are compared by their resulting rates for each uplink and direction, so that a changed guarantee of a parent
shows at every queue it affects.
"""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from difflib import SequenceMatcher
from typing import Literal, TypeAlias, TypeVar

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.plan.file.traffic_words import dscp_text
from wily_sluice.plan.model import GateSettings, HostNaming, Limiter, Plan, Rule, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.schedules.schedule import Schedule
from wily_sluice.plan.terms import Terms
from wily_sluice.units import (
    DIRECTIONS,
    SECOND,
    Nanoseconds,
    Rate,
    exact_rate,
    exact_share,
    exact_size,
    format_rate,
    rates_apart,
)

T = TypeVar("T")
How: TypeAlias = Literal["new", "gone", "changed", "moved"]


@dataclass(frozen=True, slots=True)
class Change:
    """`part` is where: `uplink`, `queue`, `rule` and so on. `whom` are words for the local side that it concerns."""

    how: How
    part: str
    name: str
    what: str = ""
    whom: tuple[str, ...] = ()


def compare(before: Plan, after: Plan) -> list[Change]:
    """What becomes of `before` when `after` takes its place."""
    changes = [*_uplinks(before, after), *_queues(before, after)]
    changes += _limiters(before, after)
    changes += _rules(before, after)
    changes += _others(before, after)
    return changes


def _uplinks(before: Plan, after: Plan) -> Iterable[Change]:
    old, new = ({u.name: u for u in plan.uplinks} for plan in (before, after))
    for name, was, now in _pairs(old, new):
        if was is None or now is None:
            yield Change("gone" if now is None else "new", "uplink", name, _uplink_words(now or was), ("everybody",))
            continue
        changes = [
            f"{_from_to(was.usable(d), now.usable(d))} {d}" for d in DIRECTIONS if was.usable(d) != now.usable(d)
        ]
        changes += [
            f"the lowest {d} {_from_to(was.lowest.of(d) or 0, now.lowest.of(d) or 0)}"
            for d in DIRECTIONS
            if was.lowest.of(d) != now.lowest.of(d)
        ]
        changes += ["another next hop"] if was.next_hops != now.next_hops else []
        changes += ["another probe"] if was.probing != now.probing else []
        changes += [f"{was.interface} → {now.interface}"] if was.interface != now.interface else []
        changes += [f"framing {was.framed.words} → {now.framed.words}"] if was.framing != now.framing else []
        changes += [
            f"tree {was.tree.of(d)} → {now.tree.of(d)} {d}" for d in DIRECTIONS if was.tree.of(d) != now.tree.of(d)
        ]
        if changes:
            yield Change("changed", "uplink", name, ", ".join(changes), ("everybody",))


def _uplink_words(uplink: Uplink | None) -> str:
    assert uplink is not None
    return f"{uplink.interface}, " + " and ".join(f"{format_rate(uplink.usable(d))} {d}" for d in DIRECTIONS)


def _queues(before: Plan, after: Plan) -> Iterable[Change]:
    uplinks = {uplink.name: uplink for uplink in before.uplinks}
    for uplink in after.uplinks:
        was = uplinks.get(uplink.name)
        if was is None:
            continue
        lines: dict[tuple[How, str], list[str]] = {}
        for direction in DIRECTIONS:
            old, new = (
                {spec.path: spec for spec in resolve(plan, line, direction).walk() if spec.path}
                for plan, line in ((before, was), (after, uplink))
            )
            for path, former, other in _pairs(old, new):
                if former is None or other is None:
                    lines.setdefault(("gone" if other is None else "new", path), [])
                elif words := _queue_words(former, other):
                    lines.setdefault(("changed", path), []).append(f"{direction}: {words}")
        for (how, path), sentences in lines.items():
            yield Change(how, f"queue on {uplink.name}", path, "; ".join(sentences), _whom(after, before, path))


def _queue_words(queue_spec: QueueSpec, other: QueueSpec) -> str:
    if queue_spec.leaf.refused != other.leaf.refused:
        return "refused" if other.leaf.refused else "no longer refused"
    words = [
        f"{what} {_from_to(was, now)}"
        for what, was, now in (("guarantee", queue_spec.guarantee, other.guarantee), ("cap", queue_spec.cap, other.cap))
        if was != now
    ]
    words += [f"priority {queue_spec.priority} → {other.priority}"] if queue_spec.priority != other.priority else []
    words += [f"weight {queue_spec.weight:g} → {other.weight:g}"] if queue_spec.weight != other.weight else []
    if bool(queue_spec.children) == bool(other.children) and queue_spec.discipline != other.discipline:
        words.append(f"{queue_spec.discipline} → {other.discipline}")
    if bool(queue_spec.children) != bool(other.children):
        words.append("a parent now" if other.children else "a leaf now")
    elif queue_spec.leaf != other.leaf:
        words.append("another queue discipline")
    return ", ".join(words)


def _from_to(was: Rate, now: Rate) -> str:
    """Both, with as many figures as it takes to see the difference."""
    first, other = rates_apart(was, now)
    return f"{first if was else 'none'} → {other if now else 'none'}"


def _whom(after: Plan, before: Plan, path: str) -> tuple[str, ...]:
    """Whose conversations are sorted to a queue or below it, in either plan."""
    words: dict[str, None] = {}
    for plan in (after, before):
        for rule in plan.sorting:
            if any(queue == path or queue.startswith(f"{path}/") for queue in rule.queues.values()):
                words |= dict.fromkeys(_locals(rule.terms))
        if any(leaf.default and (leaf.path == path or leaf.path.startswith(f"{path}/"))
               for tree in plan.trees.values() for leaf in tree.leaves):  # fmt: skip
            words["hosts that no rule matches"] = None
    return tuple(words)


def _locals(terms: Terms) -> tuple[str, ...]:
    for party in (terms.local, terms.networks):
        if party is not None:
            return party.words
    return ("everybody",)


def _limiters(before: Plan, after: Plan) -> Iterable[Change]:
    old, new = ({lim.name: lim for lim in plan.limiters} for plan in (before, after))
    for name, was, now in _pairs(old, new):
        if was is None or now is None:
            limiter = now or was
            assert limiter is not None
            yield Change("gone" if now is None else "new", "limiter", name, _caps(limiter), _locals(limiter.terms))
        elif was != now:
            words = [
                f"{_from_to(was.rate(d) or 0, now.rate(d) or 0)} {d}" for d in DIRECTIONS if was.rate(d) != now.rate(d)
            ]
            words += _limiter_words(was, now)
            whom = dict.fromkeys((*_locals(was.terms), *_locals(now.terms)))
            yield Change("changed", "limiter", name, ", ".join(words), tuple(whom))


def _limiter_words(was: Limiter, now: Limiter) -> Iterable[str]:
    """What else differs."""
    if was.enabled != now.enabled:
        yield "switched on" if now.enabled else "switched off"
    for what, old, new in (
        ("per", _per_words(was), _per_words(now)),
        ("excess", _excess_words(was), _excess_words(now)),
        ("burst", _burst_words(was), _burst_words(now)),
        ("peak", _peak_words(was), _peak_words(now)),
        ("quota", _quota_words(was), _quota_words(now)),
        ("engage", _share_words(was.threshold), _share_words(now.threshold)),
        ("when", was.when or "always", now.when or "always"),
        ("uplink", was.uplink or "all", now.uplink or "all"),
    ):
        if old != new:
            yield f"{what} {old} → {new}"
    if was.terms != now.terms or (was.protocols, was.ports) != (now.protocols, now.ports):
        yield "matches other conversations"
    if was.note != now.note:
        yield "its note"


def _per_words(limiter: Limiter) -> str:
    per = limiter.per
    return f"subnet/{per.v4 if per.v4 < 32 else per.v6}" if per.whom == "subnet" else per.whom


def _excess_words(limiter: Limiter) -> str:
    return f"mark {dscp_text((limiter.dscp,))}" if limiter.excess == "mark" else limiter.excess


def _burst_words(limiter: Limiter) -> str:
    sizes = [exact_size(limiter.burst_of(rate)) for d in DIRECTIONS if (rate := limiter.rate(d)) is not None]
    return " and ".join(dict.fromkeys(sizes)) + ("" if limiter.burst is not None else " (default)")


def _peak_words(limiter: Limiter) -> str:
    peaks = [f"{exact_rate(peak)} {d}" for d in DIRECTIONS if (peak := limiter.peak.of(d)) is not None]
    return " and ".join(peaks) or "none"


def _quota_words(limiter: Limiter) -> str:
    quota = limiter.quota
    if quota is None:
        return "none"
    part = "" if limiter.quota_from == 1 else f", from {exact_share(limiter.quota_from)}"
    return f"{exact_size(quota.size)} per {quota.period} from day {limiter.starts}{part}"


def _share_words(share: float | None) -> str:
    return f"above {exact_share(share)}" if share is not None else "always"


def _caps(limiter: Limiter) -> str:
    return " and ".join(f"{exact_rate(rate)} {d}" for d in DIRECTIONS if (rate := limiter.rate(d)) is not None)


def _rules(before: Plan, after: Plan) -> Iterable[Change]:
    old, new = ({rule.name: rule for rule in plan.rules} for plan in (before, after))
    for name, was, now in _pairs(old, new):
        if was is None or now is None:
            route = now or was
            assert route is not None
            position = f"position {route.index + 1}, " if now is not None else ""
            yield Change(
                "gone" if now is None else "new", "rule", name, f"{position}{_goes(route)}", _locals(route.terms)
            )
        elif replace(was, index=0) != replace(now, index=0):
            words = [f"{_goes(was)} → {_goes(now)}"] if _goes(was) != _goes(now) else []
            words += ["matches other conversations"] if was.terms != now.terms else []
            words += ["switched on" if now.enabled else "switched off"] if was.enabled != now.enabled else []
            whom = dict.fromkeys((*_locals(was.terms), *_locals(now.terms)))
            yield Change("changed", "rule", name, ", ".join(words) or "its note", tuple(whom))
    stayed_old, stayed_new = ([n for n in names if n in other] for names, other in ((old, new), (new, old)))
    for word, _, _, first, last in SequenceMatcher(None, stayed_old, stayed_new, autojunk=False).get_opcodes():
        for name in stayed_new[first:last] if word in ("insert", "replace") else ():
            moved = new[name]
            yield Change(
                "moved", "rule", name, f"position {old[name].index + 1} → {moved.index + 1}", _locals(moved.terms)
            )


def _goes(rule: Rule) -> str:
    queues = " and ".join(dict.fromkeys(rule.queues.values()))
    mark = f"marked {rule.mark}" if rule.mark is not None else ""
    return ", ".join(part for part in (f"to {queues}" if queues else "", mark) if part)


def _others(before: Plan, after: Plan) -> Iterable[Change]:
    """Networks, groups, schedules and services by name, and settings without a name."""
    for part, of in _NAMED.items():
        for name, was, now in _pairs(of(before), of(after)):
            if was is None or now is None:
                yield Change("gone" if now is None else "new", part, name)
            elif isinstance(was, Schedule) and isinstance(now, Schedule):
                if was != now:
                    yield Change("changed", part, name, _schedule_words(was, now, name, after), _governed(name, after))
            elif was != now:
                yield Change("changed", part, name)
    if before.timezone != after.timezone:
        yield Change("changed", "plan", "timezone", f"{before.timezone} → {after.timezone}")
    if before.steady != after.steady:
        was, now = (" and ".join(plan.steady.words) if plan.steady else "nobody" for plan in (before, after))
        yield Change("changed", "plan", "keep-ports", f"{was} → {now}")
    if before.gate != after.gate:
        whom = ("everybody",) if before.gate.keep_contacts != after.gate.keep_contacts else ()
        yield Change("changed", "plan", "gate", "; ".join(_gate_words(before.gate, after.gate)), whom)


def _schedule_words(was: Schedule, now: Schedule, name: str, plan: Plan) -> str:
    """`18:00-22:00 → 18:00-23:00; when limiter guest-each and rule Films apply`."""
    lines = [
        ", ".join(
            [
                *(window.words for window in schedule.windows),
                *(f"not {exception.words}" for exception in schedule.exceptions),
            ]
        )
        for schedule in (was, now)
    ]
    parts = [f"{lines[0]} → {lines[1]}"] if lines[0] != lines[1] else []
    governed = [f"limiter {limiter.name}" for limiter in plan.limiters if limiter.when == name]
    governed += [f"rule {rule.name}" for rule in plan.sorting if _asks_when(rule.terms, name)]
    governed += [f"route {route.name}" for route in plan.routes if _asks_when(route.terms, name)]
    if governed:
        parts.append(f"when {' and '.join(governed)} appl{'ies' if len(governed) == 1 else 'y'}")
    return "; ".join(parts)


def _governed(name: str, plan: Plan) -> tuple[str, ...]:
    """Whose limiters and rules follow a schedule."""
    locals_ = [_locals(limiter.terms) for limiter in plan.limiters if limiter.when == name]
    locals_ += [_locals(rule.terms) for rule in plan.sorting if _asks_when(rule.terms, name)]
    return tuple(dict.fromkeys(word for words in locals_ for word in words))


def _asks_when(terms: Terms, name: str) -> bool:
    return any(part.asked.get("when") == name for part in terms.walk())


def _gate_words(was: GateSettings, now: GateSettings) -> Iterable[str]:
    for what, old, new in (
        ("watchers", was.watchers or "root", now.watchers or "root"),
        ("metrics", f"port {was.metrics}" if was.metrics else "off", f"port {now.metrics}" if now.metrics else "off"),
        ("probes of a trial", ", ".join(was.probe) or "none", ", ".join(now.probe) or "none"),
        ("recorded contacts", _kept(was.keep_contacts), _kept(now.keep_contacts)),
        ("names of hosts", _naming(was.names), _naming(now.names)),
        ("collector", _collector(was.ipfix), _collector(now.ipfix)),
        ("firewall mark", f"bits {was.marks}", f"bits {now.marks}"),
        ("routing rules", f"from {was.marks.preference}", f"from {now.marks.preference}"),
        ("notices", was.notify or "in the log", now.notify or "in the log"),
    ):
        if old != new:
            yield f"{what}: {old} → {new}"


def _collector(end: tuple[str, int] | None) -> str:
    return f"{end[0]} port {end[1]}" if end is not None else "none"


def _naming(names: HostNaming) -> str:
    sources = [*names.leases, *(["reverse zone"] if names.reverse else [])]
    return ", ".join(sources) or "the plan's alone"


def _kept(span: Nanoseconds | None) -> str:
    return f"kept for {span / (86_400 * SECOND):.4g} days" if span is not None else "not kept"


_NAMED: dict[str, Callable[[Plan], Mapping[str, object]]] = {
    "route": lambda plan: {route.name: route for route in plan.routes},
    "mapping": lambda plan: {grant.name: grant for grant in plan.grants},
    "tunnel": lambda plan: {tunnel.name: tunnel for tunnel in plan.tunnels},
    "network": lambda plan: {network.name: network for network in plan.networks},
    "host": lambda plan: plan.named_hosts,
    "group": lambda plan: plan.groups,
    "schedule": lambda plan: plan.schedules,
    "service": lambda plan: plan.services,
}


def _pairs(old: Mapping[str, T], new: Mapping[str, T]) -> Iterable[tuple[str, T | None, T | None]]:
    """Each name with its value in either plan, in the new order first."""
    for name in dict.fromkeys((*new, *old)):
        yield name, old.get(name), new.get(name)

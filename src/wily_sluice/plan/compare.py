"""The differences between two plans, in words: uplinks, networks, queues, limiters, rules, and everything else.

The list is empty exactly if the plans have the same effect (`plan.effect`). Queues are compared by their resulting
rates for each uplink and direction, so that a changed guarantee of a parent shows at every queue it affects.
"""

from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from difflib import SequenceMatcher
from typing import Literal, TypeAlias, TypeVar

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.plan import effect
from wily_sluice.plan.effect import Values, plain
from wily_sluice.plan.file.traffic_words import dscp_text
from wily_sluice.plan.model import GateSettings, HostNaming, Limiter, Plan, Route, Rule, Uplink
from wily_sluice.plan.schedules.schedule import Schedule
from wily_sluice.plan.terms import TRANSPORTS, Grant, Terms
from wily_sluice.units import (
    DIRECTIONS,
    SECOND,
    Direction,
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
    changes += _listed("rule", before, after, before.rules, after.rules)
    changes += _listed("route", before, after, before.routes, after.routes)
    changes += _listed("mapping", before, after, before.grants, after.grants)
    changes += _others(before, after)
    return changes


def _more(was: Values, now: Values, said: Iterable[str]) -> Iterable[str]:
    """The other differing fields of a part."""
    for field in dict.fromkeys((*was, *now)):
        old, new = was.get(field), now.get(field)
        if old == new or field in said:
            continue
        words = field.replace("-", " ")
        if field == "note":
            yield "its note"
        elif field == "terms":
            yield "matches other conversations"
        elif field == "enabled":
            yield "switched on" if new else "switched off"
        elif isinstance(old, (str, int, float)) and isinstance(new, (str, int, float)) and not isinstance(old, bool):
            yield f"{words} {old or 'none'} → {new or 'none'}"
        else:
            yield f"other {words}"


_UPLINK_SAID = ("usable up", "usable down", "lowest", "next-hops", "probing", "interface", "framed")


def _uplinks(before: Plan, after: Plan) -> Iterable[Change]:
    old, new = ({u.name: u for u in plan.uplinks} for plan in (before, after))
    values_old, values_new = effect.uplinks(before), effect.uplinks(after)
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
        changes += _more(values_old[name], values_new[name], _UPLINK_SAID)
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
        values_old, values_new = effect.queues(before, was), effect.queues(after, uplink)
        for direction in DIRECTIONS:
            old, new = (effect.queue_specs(plan, line, direction) for plan, line in ((before, was), (after, uplink)))
            for path, former, other in _pairs(old, new):
                if former is None or other is None:
                    lines.setdefault(("gone" if other is None else "new", path), [])
                    continue
                words = _queue_words(former, other) if path else _root_words(former, other)
                defaults = [_is_default(plan, line, direction, path) for plan, line in ((before, was), (after, uplink))]
                if defaults[0] != defaults[1]:
                    words.append("the default now" if defaults[1] else "no longer the default")
                at_lowest = f"{direction} at the lowest rate"
                if not words and values_old[path].get(at_lowest) != values_new[path].get(at_lowest) and path:
                    words.append("another rate when the line is at its lowest")
                if words:
                    lines.setdefault(("changed", path), []).append(f"{direction}: {', '.join(words)}")
        for (how, path), sentences in lines.items():
            whom = _whom(after, before, path) if path else ("everybody",)
            yield Change(how, f"queue on {uplink.name}", path or ROOT, "; ".join(sentences), whom)


ROOT = "(root)"


def _is_default(plan: Plan, uplink: Uplink, way: Direction, path: str) -> bool:
    return any(leaf.default and leaf.path == path for leaf in plan.tree(uplink, way).leaves)


def _root_words(spec: QueueSpec, other: QueueSpec) -> list[str]:
    """Its rate is listed with the uplink."""
    return [f"{spec.discipline} → {other.discipline}"] if spec.discipline != other.discipline else []


def _queue_words(queue_spec: QueueSpec, other: QueueSpec) -> list[str]:
    words = [
        f"{what} {_from_to(was, now)}"
        for what, was, now in (("guarantee", queue_spec.guarantee, other.guarantee), ("cap", queue_spec.cap, other.cap))
        if was != now
    ]
    if queue_spec.leaf.refused != other.leaf.refused:
        words = ["refused" if other.leaf.refused else "no longer refused"]
    words += [f"priority {queue_spec.priority} → {other.priority}"] if queue_spec.priority != other.priority else []
    words += [f"weight {queue_spec.weight:g} → {other.weight:g}"] if queue_spec.weight != other.weight else []
    if bool(queue_spec.children) != bool(other.children):
        words.append("a parent now" if other.children else "a leaf now")
    elif other.children and queue_spec.discipline != other.discipline:
        words.append(f"{queue_spec.discipline} → {other.discipline}")
    elif not other.children and replace(queue_spec.leaf, refused=False) != replace(other.leaf, refused=False):
        words.append("another queue discipline")
    return words


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
        elif effect.limiter(was) != effect.limiter(now):
            words = list(_limiter_words(was, now)) or list(_more(effect.limiter(was), effect.limiter(now), ()))
            whom = dict.fromkeys((*_locals(was.terms), *_locals(now.terms)))
            yield Change("changed", "limiter", name, ", ".join(words), tuple(whom))


_LIMITER_SAID = (
    *("per", "excess", "dscp", "excess-burst", "peak", "quota", "quota-from", "starts", "threshold", "when", "uplink"),
    *("up", "down", "burst up", "burst down", "excess burst up", "excess burst down"),
)


def _limiter_words(was: Limiter, now: Limiter) -> Iterable[str]:
    """What differs."""
    for d in DIRECTIONS:
        if was.rate(d) != now.rate(d):
            yield f"{_from_to(was.rate(d) or 0, now.rate(d) or 0)} {d}"
    for what, old, new in (
        ("per", _per_words(was), _per_words(now)),
        ("excess", _excess_words(was), _excess_words(now)),
        ("burst", _burst_words(was), _burst_words(now)),
        ("excess burst", _second_words(was), _second_words(now)),
        ("peak", _peak_words(was), _peak_words(now)),
        ("quota", _quota_words(was), _quota_words(now)),
        ("engage", _share_words(was.threshold), _share_words(now.threshold)),
        ("when", was.when or "always", now.when or "always"),
        ("uplink", was.uplink or "all", now.uplink or "all"),
    ):
        if old != new:
            yield f"{what} {old} → {new}"
    yield from _more(effect.limiter(was), effect.limiter(now), _LIMITER_SAID)


def _per_words(limiter: Limiter) -> str:
    per = limiter.per
    return f"subnet/{per.v4 if per.v4 < 32 else per.v6}" if per.whom == "subnet" else per.whom


def _excess_words(limiter: Limiter) -> str:
    return f"mark {dscp_text((limiter.dscp,))}" if limiter.excess == "mark" else limiter.excess


def _burst_words(limiter: Limiter) -> str:
    sizes = [exact_size(limiter.burst_of(rate)) for d in DIRECTIONS if (rate := limiter.rate(d)) is not None]
    return " and ".join(dict.fromkeys(sizes)) + ("" if limiter.burst is not None else " (default)")


def _second_words(limiter: Limiter) -> str:
    """The excess burst, where it decides something."""
    values = effect.limiter(limiter)
    sizes = [size for way in DIRECTIONS if isinstance(size := values[f"excess burst {way}"], int) and size]
    return " and ".join(dict.fromkeys(exact_size(size) for size in sizes)) or "none"


def _peak_words(limiter: Limiter) -> str:
    if limiter.excess == "wait":
        return "none"
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


Listed: TypeAlias = Rule | Route | Grant


def _listed(kind: str, before: Plan, after: Plan, old: tuple[Listed, ...], new: tuple[Listed, ...]) -> Iterable[Change]:
    """The changes of a list in which the first match decides."""
    values_old, values_new = effect.in_order(before, old), effect.in_order(after, new)
    pairs = _aligned(values_old, values_new)
    was_at = {there: here for here, there in pairs}
    for here, part in enumerate(new):
        if here not in was_at:
            yield Change("new", kind, part.name, f"position {here + 1}{_goes(part, ', ')}", _whom_of(part))
            continue
        was, values = old[was_at[here]], (values_old[was_at[here]][1], values_new[here][1])
        if values[0] != values[1]:
            goes = [_goes(was), _goes(part)]
            words = [f"{goes[0]} → {goes[1]}"] if goes[0] != goes[1] else []
            words += _more(*values, _SAID[kind] if words else ())  # the queues of a tree may not differ in words
            whom = dict.fromkeys((*_whom_of(was), *_whom_of(part)))
            yield Change("changed", kind, part.name, ", ".join(words), tuple(whom))
    for here in sorted(set(range(len(old))) - set(was_at.values())):
        yield Change("gone", kind, old[here].name, _goes(old[here]), _whom_of(old[here]))
    stayed = sorted(was_at.values()), [was_at[here] for here in sorted(was_at)]
    at = {there: here for here, there in was_at.items()}
    for word, _, _, first, last in SequenceMatcher(None, *stayed, autojunk=False).get_opcodes():
        for there in stayed[1][first:last] if word in ("insert", "replace") else ():
            part = new[at[there]]
            yield Change("moved", kind, part.name, f"position {there + 1} → {at[there] + 1}", _whom_of(part))


_SAID = {"rule": ("leads", "mark"), "route": ("shares", "otherwise"), "mapping": ("ports", "uplink")}


def _aligned(old: Sequence[tuple[str, Values]], new: Sequence[tuple[str, Values]]) -> list[tuple[int, int]]:
    """The indices of parts that are the same before and after: those that are equal, then those of one name."""
    keys: list[list[Hashable]] = [[(name, plain(values)) for name, values in parts] for parts in (old, new)]
    names: list[list[Hashable]] = [[name for name, _ in parts] for parts in (old, new)]
    matcher = SequenceMatcher(None, keys[0], keys[1], autojunk=False)
    pairs = [(a + n, b + n) for a, b, size in matcher.get_matching_blocks() for n in range(size)]
    for same in (keys, names):
        rest: dict[Hashable, list[int]] = {}
        taken_old, taken_new = ({pair[side] for pair in pairs} for side in (0, 1))
        for here, key in enumerate(same[0]):
            if here not in taken_old:
                rest.setdefault(key, []).append(here)
        for there, key in enumerate(same[1]):
            if there not in taken_new and rest.get(key):
                pairs.append((rest[key].pop(0), there))
    return pairs


def _whom_of(part: Listed) -> tuple[str, ...]:
    return part.local.words if isinstance(part, Grant) else _locals(part.terms)


def _goes(part: Listed, lead: str = "") -> str:
    """The destination of a rule or a route, or the ports of a mapping."""
    if isinstance(part, Rule):
        queues = " and ".join(dict.fromkeys(part.queues.values()))
        mark = f"marked {dscp_text((part.mark,))}" if part.mark is not None else ""
        words = [f"to {queues}" if queues else "", mark]
    elif isinstance(part, Route):
        many = len(part.shares) > 1
        lines = " and ".join(f"{name} ×{weight:g}" if many else name for name, weight in part.shares)
        words = [f"over {lines}", f"else {part.otherwise}" if part.otherwise is not None else ""]
    else:
        spans = (f"{a}-{b}/{TRANSPORTS[protocol]}" if a != b else f"{a}/{TRANSPORTS[protocol]}"
                 for protocol, ranges in part.ports.items() for a, b in ranges)  # fmt: skip
        words = [f"ports {', '.join(spans)} on {part.uplink}"]
    said = ", ".join(word for word in words if word)
    return f"{lead}{said}" if said else ""


def _others(before: Plan, after: Plan) -> Iterable[Change]:
    """Networks, groups, schedules and services by name, and settings without a name."""
    new = effect.named(after)
    for part, old in effect.named(before).items():
        for name, was, now in _pairs(old, new[part]):
            if was is None or now is None:
                yield Change("gone" if now is None else "new", part, name)
            elif was != now and part == "schedule":
                words = _schedule_words(before.schedules[name], after.schedules[name], name, after)
                yield Change("changed", part, name, words, _governed(name, after))
            elif was != now:
                yield Change("changed", part, name, ", ".join(_more(was, now, ())))
    settings = effect.settings(after)
    for name, setting in effect.settings(before).items():
        if setting == settings[name]:
            continue
        if name == "gate":
            whom = ("everybody",) if before.gate.keep_contacts != after.gate.keep_contacts else ()
            yield Change("changed", "plan", name, "; ".join(_gate_words(before.gate, after.gate)), whom)
        elif name == "keep-ports":
            old_words, words = (
                " and ".join(plan.steady.words) if plan.steady else "nobody" for plan in (before, after)
            )
            what = f"{old_words} → {words}" if old_words != words else "means other hosts"
            yield Change("changed", "plan", name, what)
        else:
            yield Change("changed", "plan", name, f"{setting['']} → {settings[name]['']}")


def _schedule_words(was: Schedule, now: Schedule, name: str, plan: Plan) -> str:
    """`18:00-22:00 → 18:00-23:00; when limiter guest-each and rule Films apply`."""
    lines = [
        ", ".join(
            [
                *(window.words for window in schedule.windows),
                *(f"not {exception.words}" for exception in schedule.exceptions),
                *([f"from {schedule.first}"] if schedule.first is not None else []),
                *([f"until {schedule.last}"] if schedule.last is not None else []),
            ]
        )
        for schedule in (was, now)
    ]
    parts = [f"{lines[0]} → {lines[1]}" if lines[0] != lines[1] else "other events in its calendar"]
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


def _pairs(old: Mapping[str, T], new: Mapping[str, T]) -> Iterable[tuple[str, T | None, T | None]]:
    """Each name with its value in either plan, in the new order first."""
    for name in dict.fromkeys((*new, *old)):
        yield name, old.get(name), new.get(name)

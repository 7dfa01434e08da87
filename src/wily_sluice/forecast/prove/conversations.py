"""Promises about conversations: rules, the default, routes, and traffic of all protocols."""

from collections import Counter
from collections.abc import Iterator, Sequence, Set
from dataclasses import replace

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.header import ICMP, ICMPV6, TCP, UDP, Parties
from wily_sluice.engine.classify.neighbours import GATEWAY
from wily_sluice.forecast.prove.bench import Bench, queue_location
from wily_sluice.forecast.prove.example import (
    LOCAL_PORT,
    REMOTE_PORT,
    Example,
    examples,
    first_of,
    meant,
    remote_for,
    rule_of,
)
from wily_sluice.forecast.prove.proof import SUPERFLUOUS, UNTRIED, Judged, Led, Promise, Proof, Where, World
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Plan, Route, Rule, Uplink
from wily_sluice.plan.terms import Terms


def rule_promises(bench: Bench) -> Iterator[Promise]:
    """Each rule brings a conversation that it is about to its queue; without it, that goes elsewhere."""
    for rule in bench.plan.sorting:
        uplink, example = where_it_applies(bench, rule)
        yield _rule(bench, uplink, rule, example)


def where_it_applies(bench: Bench, rule: Rule) -> tuple[Uplink, Example | None]:
    """The first uplink on which a conversation meets a rule, with that conversation; None if there is none on any."""
    found = ((uplink, example_of(bench, uplink, rule)) for uplink in bench.plan.uplinks)
    return next(((uplink, example) for uplink, example in found if example is not None), (bench.plan.uplinks[0], None))


def example_of(bench: Bench, uplink: Uplink, rule: Rule) -> Example | None:
    """A conversation that a rule matches first, if possible one known by its parties alone, and of IPv4."""
    plan: Plan = bench.plan
    shaper = meant(plan, uplink.name, bench.within(rule.terms.when))
    index = plan.sorting.index(rule)
    fitting = [example for example in examples(plan, rule.terms) if rule_of(shaper, example) == index]
    return min(fitting, key=lambda example: (not example.plain, len(example.parties.local)), default=None)


def _rule(bench: Bench, uplink: Uplink, rule: Rule, example: Example | None) -> Promise:
    plan = bench.plan
    leaf = rule.queues.get(plan.tree(uplink, "up").name, plan.tree(uplink, "up").default.path)
    proof = Proof("rule", rule.name, uplink.name, ("rules", rule.index), f"goes to {leaf}", uplink=uplink.name)
    if example is None:
        return Promise(proof)
    asked = Where(uplink.name, example, bench.within(rule.terms.when))

    def judge(world: World) -> Judged:
        went = world.where(asked)
        return Judged(went == leaf, f"goes to {went}" if went else "bypasses the gate")

    def control() -> str:
        rules = tuple(replace(each, enabled=False) if each.index == rule.index else each for each in plan.rules)
        other = bench.where(asked, replace(plan, rules=rules))
        return f"without it, the same conversation uses {other}" if other == leaf and rule.mark is None else ""

    return Promise(proof, judge, control)


def default_promises(bench: Bench) -> Iterator[Promise]:
    """Traffic that no rule matches uses the default leaf."""
    for uplink in bench.plan.uplinks:
        yield _default(bench, uplink)


def _default(bench: Bench, uplink: Uplink) -> Promise:
    tree = bench.plan.tree(uplink, "up")
    leaf = tree.default.path
    expected = f"traffic that no rule matches uses {leaf}"
    proof = Proof("default", leaf, uplink.name, queue_location(tree, leaf, "default"), expected, uplink=uplink.name)
    shaper = meant(bench.plan, uplink.name)
    example = next((example for example in examples(bench.plan, Terms()) if rule_of(shaper, example) < 0), None)
    if example is None:
        return Promise(replace(proof, why="the rules match everything that was tried"))
    asked = Where(uplink.name, example)

    def judge(world: World) -> Judged:
        went = world.where(asked)
        return Judged(went == leaf, f"goes to {went}" if went else "bypasses the gate")

    return Promise(proof, judge, lambda: SUPERFLUOUS if len(tree.leaves) == 1 else "")


MOST_SHARED = 24  # conversations for the shares of one route


def route_promises(bench: Bench) -> Iterator[Promise]:
    """Each route leads a conversation that it matches over its lines; with these down, over its other one."""
    for route in bench.plan.routing:
        yield _shares(bench, route)
        if route.otherwise is not None:
            yield from _takeover(bench, route, route.otherwise)


def route_example(bench: Bench, route: Route, lines: Set[str]) -> tuple[Example | None, str]:
    """A conversation that a route matches first by its parties and names alone, and that none of the uplinks refuses;
    or the reason why there is none.
    """
    moment = bench.within(route.terms.when)
    why = UNTRIED
    for example in sorted(examples(bench.plan, route.terms), key=lambda example: len(example.parties.local)):
        if example.known.seen or example.shape or example.moved or example.fast or example.kind or example.hardware:
            continue  # known only later
        met, refused = bench.route_of(example, moment)
        if met == route.index:
            if not refused & lines:
                return example, ""
            word = "refuses" if len(refused & lines) == 1 else "refuse"
            why = f"{' and '.join(sorted(refused & lines))} {word} the queue of every conversation that was found"
    return None, why


def _shares(bench: Bench, route: Route) -> Promise:
    many = _many(route)
    total = sum(weight for _, weight in route.shares)
    parts = {name: many * weight / total for name, weight in route.shares}
    lines = " and ".join(parts)
    expected = f"goes over {lines}" if len(parts) == 1 else _counted(parts)
    example, why = route_example(bench, route, parts.keys())
    proof = Proof("route", route.name, lines, _location(route), expected, why=why)
    if example is None:
        return Promise(proof)
    asked = Led(example, many, moment=bench.within(route.terms.when))

    def so(lines: Sequence[str]) -> bool:
        counts = Counter(lines)
        return set(counts) <= set(parts) and all(abs(counts[name] - part) < 1 for name, part in parts.items())

    def judge(world: World) -> Judged:
        lines = world.lines(asked)
        return Judged(so(lines), _went(lines))

    def control() -> str:
        lines = bench.lines(asked, _with_route(bench.plan, replace(route, enabled=False)))
        return f"without it, the same {_went(lines)}" if so(lines) else ""

    return Promise(proof, judge, control)


def _takeover(bench: Bench, route: Route, otherwise: str) -> Iterator[Promise]:
    carriers = {tunnel.name: tunnel.uplink for tunnel in bench.plan.tunnels}
    down = frozenset(carriers.get(name, name) for name, _ in route.shares)
    if carriers.get(otherwise, otherwise) in down:
        return
    failed = " and ".join(sorted(down))
    expected = f"while {failed} {'is' if len(down) == 1 else 'are'} down, goes over {otherwise}"
    example, why = route_example(bench, route, {otherwise})
    proof = Proof("takeover", route.name, otherwise, (*_location(route), "else"), expected, why=why)
    if example is None:
        yield Promise(proof)
        return
    asked = Led(example, 1, down, bench.within(route.terms.when))

    def judge(world: World) -> Judged:
        lines = world.lines(asked)
        return Judged(lines == (otherwise,), _went(lines))

    def control() -> str:
        lines = bench.lines(asked, _with_route(bench.plan, replace(route, otherwise=None)))
        return f"without `else`, the same {_went(lines)}" if lines == (otherwise,) else ""

    yield Promise(proof, judge, control)


def _many(route: Route) -> int:
    """The number of conversations that divides evenly among the uplinks, if it is not too large."""
    total = sum(weight for _, weight in route.shares)
    if len(route.shares) == 1:
        return 1
    return next(
        (
            many
            for many in range(len(route.shares), MOST_SHARED)
            if all(many * weight / total == round(many * weight / total) >= 1 for _, weight in route.shares)
        ),
        MOST_SHARED,
    )


def _location(route: Route) -> Location:
    return ("routes", route.index)


def _with_route(plan: Plan, changed: Route) -> Plan:
    return replace(plan, routes=tuple(changed if route.index == changed.index else route for route in plan.routes))


def _went(lines: Sequence[str]) -> str:
    """`goes over fibre`, or `3 over fibre and 1 over mobile`."""
    counts = Counter(lines)
    if len(lines) == 1:
        return f"goes over {lines[0]}" if lines[0] else "has no route"
    return _counted(counts)


def _counted(counts: dict[str, float] | Counter[str]) -> str:
    return " and ".join(
        f"{count:.3g} over {name}" if name else f"{count} by no route" for name, count in counts.items()
    )


def traffic_promises(bench: Bench) -> Iterator[Promise]:
    """TCP, UDP and ICMP of a host of each network and version, and of the gateway, on each uplink."""
    for uplink in bench.plan.uplinks:
        homes: list[tuple[str, AddressSet, Location]] = [
            (network.name, network.addresses, ("networks", network.name, "subnets")) for network in bench.plan.networks
        ]
        for name, addresses, place in (*homes, (GATEWAY.name, GATEWAY.addresses, ("uplinks", uplink.name))):
            for version, width in ((4, 4), (6, 16)):
                local = first_of(addresses, width)
                if local is not None:
                    yield _passes(bench, uplink, name, place, version, local)


def _passes(bench: Bench, uplink: Uplink, name: str, place: Location, version: int, local: bytes) -> Promise:
    remote = remote_for(bench.plan, len(local))
    parties = {
        "TCP": Parties(TCP, local, remote, LOCAL_PORT, REMOTE_PORT),
        "UDP": Parties(UDP, local, remote, LOCAL_PORT, REMOTE_PORT),
        "ICMP": Parties(ICMP if version == 4 else ICMPV6, local, remote, 0, 0),
    }
    askings = {name: Where(uplink.name, Example(party)) for name, party in parties.items()}
    refused = all(bench.where(asked) in uplink.refuses for asked in askings.values())
    proof = Proof(
        "traffic",
        f"{name}, IPv{version}",
        uplink.name,
        place,
        f"{', '.join(parties)} {'are refused here' if refused else 'go through the gate'}",
        uplink=uplink.name,
    )

    def judge(world: World) -> Judged:
        queues = {name: world.where(asked) for name, asked in askings.items()}
        past = [name for name, queue in queues.items() if not queue or (queue in uplink.refuses) != refused]
        return Judged(not past, f"{', '.join(past)} past the gate" if past else "they are" if refused else "they do")

    return Promise(proof, judge)

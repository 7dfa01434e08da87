"""Promises about the boundaries of rules, limiters, routes and mappings.

A rule matches at both ends of each of its ranges. A conversation that misses by one term alone must go elsewhere
(`near_misses`). Mappings are tried in the lab alone, on the table of mappings that the gate uses.
"""

from collections.abc import Iterable, Iterator
from ipaddress import ip_address

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.condition import LONGEST_PACKET
from wily_sluice.forecast.prove.bench import Bench, with_limiter
from wily_sluice.forecast.prove.conversations import route_example, where_it_applies
from wily_sluice.forecast.prove.example import (
    Example,
    first_of,
    meant,
    rule_of,
)
from wily_sluice.forecast.prove.limiters import limited_hosts
from wily_sluice.forecast.prove.near_misses import edges, misses
from wily_sluice.forecast.prove.proof import (
    TOLERANCE,
    CannotTry,
    Flood,
    Judged,
    Led,
    Opened,
    Part,
    Promise,
    Proof,
    Stream,
    Where,
    World,
    figure,
)
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Limiter, Route, Rule, Uplink
from wily_sluice.plan.terms import TRANSPORTS, Grant
from wily_sluice.units import DIRECTIONS, Direction

MOST_MISSES = 12  # of one rule
BESIDE = 3  # conversations that a limiter must leave alone, in one flood
APART = 1.25  # times a limiter's rate, that each of them sends at least


def rule_boundaries(bench: Bench) -> Iterator[Promise]:
    """Each rule leaves conversations to others that miss one of its terms."""
    for rule in bench.plan.sorting:
        uplink, example = where_it_applies(bench, rule)
        if example is not None and not rule.terms.anyone:
            yield from _of_rule(bench, rule, uplink, example)


def _of_rule(bench: Bench, rule: Rule, uplink: Uplink, example: Example) -> Iterator[Promise]:
    plan, moment = bench.plan, bench.within(rule.terms.when)
    shaper, index = meant(plan, uplink.name, moment), plan.sorting.index(rule)
    leaf = bench.where(Where(uplink.name, example, moment))
    inside: dict[str, tuple[Where, str]] = {}
    for edge in edges(plan, example, rule.terms):
        if rule_of(shaper, edge.example) == index:
            inside.setdefault(edge.words, (Where(uplink.name, edge.example, moment), leaf))
    tried: dict[str, tuple[Where, str]] = {}
    for miss in misses(plan, example, rule.terms):
        if rule_of(shaper, miss.example) != index:
            asked = Where(uplink.name, miss.example, moment)
            goes = bench.where(asked)
            if goes and goes != leaf:
                tried.setdefault(miss.words, (asked, goes))
    for other in plan.uplinks:
        away = meant(plan, other.name, moment)
        asked = Where(other.name, example, moment)
        if other is not uplink and rule_of(away, example) != index and (goes := bench.where(asked)) != leaf and goes:
            tried.setdefault(f"over {other.name}", (asked, goes))
    if tried or inside:
        outside = dict(list(tried.items())[:MOST_MISSES])
        within = dict(list(inside.items())[:MOST_MISSES])
        proof = _proof(rule.name, uplink.name, ("rules", rule.index), outside, within, uplink.name)
        yield Promise(proof, lambda world: _judge_places(world, {**outside, **within}))


def _proof(
    name: str, where: str, location: Location, outside: Iterable[str], inside: Iterable[str] = (), uplink: str = ""
) -> Proof:
    """How many conversations are tried, and in the cases, which."""
    near, far = list(inside), list(outside)
    cases = (*(f"matches: {words}" for words in near), *(f"does not match: {words}" for words in far))
    parts = [f"matches at {len(near)} end{'s' * (len(near) > 1)}"] if near else []
    parts += [f"not {len(far)} near miss{'es' * (len(far) > 1)}"] if far and near else []
    parts += [f"does not match {len(far)} near miss{'es' * (len(far) > 1)}"] if far and not near else []
    return Proof("boundary", name, where, location, ", ".join(parts), uplink=uplink, cases=cases)


def _judge_places(world: World, tried: dict[str, tuple[Where, str]]) -> Judged:
    wrong, done, why = [], 0, ""
    for words, (asked, goes) in tried.items():
        try:
            went = world.where(asked)
        except CannotTry as reason:
            why = str(reason)
            continue
        done += 1
        if went != goes:
            wrong.append(f"{words} goes to {went or 'no queue'}, not to {goes}")
    if not done:
        raise CannotTry(why)
    return Judged(not wrong, "; ".join(wrong) or "it does")


def limiter_boundaries(bench: Bench) -> Iterator[Promise]:
    """Hosts that miss one term of a limiter get more than its rate."""
    for limiter in bench.plan.limiters:
        if not limiter.enabled or limiter.threshold is not None or limiter.terms.anyone:
            continue
        for way in DIRECTIONS:
            for uplink in bench.plan.uplinks:
                if limiter.uplink in (None, uplink.name) and limiter.rate(way) is not None:
                    yield from _of_limiter(bench, limiter, uplink, way)
                    break


def _of_limiter(bench: Bench, limiter: Limiter, uplink: Uplink, way: Direction) -> Iterator[Promise]:
    plan, index, rate = bench.plan, bench.plan.limiters.index(limiter), limiter.rate(way) or 0
    hosts = limited_hosts(bench, limiter, uplink)
    usable = uplink.usable(way)
    many = min(BESIDE, int(usable * 0.9 / (rate * APART)))
    if not hosts or not many:
        return
    shaper = meant(plan, uplink.name, bench.within(limiter.when))
    inside: dict[str, Example] = {}
    for edge in edges(plan, hosts[0], limiter.terms):
        if index in shaper.classifier.limits(edge.example.subject(edge.example.conversation())):
            inside.setdefault(edge.words, edge.example)
    if inside:
        yield _at_edges(bench, limiter, uplink, way, inside)
    tried: dict[str, Example] = {}
    for miss in misses(plan, hosts[0], limiter.terms):
        example = miss.example
        limits = shaper.classifier.limits(example.subject(example.conversation()))
        if index not in limits and example.length == LONGEST_PACKET and not example.hardware:
            tried.setdefault(miss.words, example)
    if limiter.uplink is not None:
        other = next((line for line in plan.uplinks if line.name != limiter.uplink), None)
        if other is not None and other.usable(way) > rate * APART:
            yield from _beside(bench, limiter, other, way, {f"over {other.name}": hosts[0]}, 1)
    yield from _beside(bench, limiter, uplink, way, tried, many)


def _at_edges(bench: Bench, limiter: Limiter, uplink: Uplink, way: Direction, inside: dict[str, Example]) -> Promise:
    rate, usable = limiter.rate(way) or 0, uplink.usable(way)
    words = list(inside)[:BESIDE]
    streams = tuple(Stream(inside[word], round(usable / len(words))) for word in words)
    part, moment = Part("limiter", limiter.name), bench.within(limiter.when)
    asked = Flood(part, uplink.name, way, streams, 0, limiter.quota is not None, moment)
    location, most = ("limiters", limiter.name, way), rate * (1 + TOLERANCE)
    where = f"{uplink.name} {way}"
    proof = _proof(limiter.name, where, location, (), words, uplink.name)

    def judge(world: World) -> Judged:
        came = world.flood(asked)
        free = [f"{word} gets {figure(one.rate)}" for word, one in zip(words, came, strict=True) if one.rate > most]
        return Judged(not free, "; ".join(free) or f"at most {figure(rate)} each")

    return Promise(proof, judge)


def _beside(
    bench: Bench, limiter: Limiter, uplink: Uplink, way: Direction, tried: dict[str, Example], many: int
) -> Iterator[Promise]:
    rate, usable = limiter.rate(way) or 0, uplink.usable(way)
    most = rate * (1 + TOLERANCE)
    words = list(tried)
    for first in range(0, min(len(words), MOST_MISSES), many):
        some = words[first : first + many]
        streams = tuple(Stream(tried[word], round(usable * 0.9 / len(some))) for word in some)
        part, moment = Part("limiter", limiter.name), bench.within(limiter.when)
        asked = Flood(part, uplink.name, way, streams, 0, limiter.quota is not None, moment)
        # Their queues may give them less than that, whatever the limiter does.
        free = bench.flood(asked, with_limiter(bench.plan, ""))
        able = [word for word, came in zip(some, free, strict=True) if came.rate > most * APART]
        if able:
            yield _flooded(limiter, uplink, way, asked, [some.index(word) for word in able], able, most)


def _flooded(
    limiter: Limiter, uplink: Uplink, way: Direction, asked: Flood, which: list[int], words: list[str], most: float
) -> Promise:
    where = f"{uplink.name} {way}"
    location = ("limiters", limiter.name, way)
    proof = _proof(limiter.name, where, location, words, uplink=uplink.name)

    def judge(world: World) -> Judged:
        came = world.flood(asked)
        held = [f"{words[n]} gets {figure(came[w].rate)}" for n, w in enumerate(which) if came[w].rate <= most]
        return Judged(not held, "; ".join(held) or f"{figure(min(came[w].rate for w in which))} or more each")

    return Promise(proof, judge)


def route_boundaries(bench: Bench) -> Iterator[Promise]:
    """Each route leaves conversations to others that miss one of its terms."""
    for route in bench.plan.routing:
        if not route.terms.anyone:
            yield from _of_route(bench, route)


def _of_route(bench: Bench, route: Route) -> Iterator[Promise]:
    moment = bench.within(route.terms.when)
    example, _ = route_example(bench, route, {name for name, _ in route.shares})
    if example is None:
        return
    own = set(bench.lines(Led(example, 1, moment=moment)))
    tried: dict[str, tuple[Led, tuple[str, ...]]] = {}
    inside: dict[str, tuple[Led, tuple[str, ...]]] = {}
    for edge in edges(bench.plan, example, route.terms):
        asked = Led(edge.example, 1, moment=moment)
        if bench.route_of(edge.example, moment)[0] == route.index and len(route.shares) == 1:
            inside.setdefault(edge.words, (asked, bench.lines(asked)))
    for miss in misses(bench.plan, example, route.terms):
        if miss.example.hardware or miss.example.moved or miss.example.fast or miss.example.kind:
            continue
        asked = Led(miss.example, 1, moment=moment)
        if bench.route_of(miss.example, moment)[0] != route.index and not own & set(lines := bench.lines(asked)):
            tried.setdefault(miss.words, (asked, lines))
    if not tried and not inside:
        return
    outside, within = (dict(list(some.items())[:MOST_MISSES]) for some in (tried, inside))
    some = {**outside, **within}
    lines_of = " and ".join(name for name, _ in route.shares)
    proof = _proof(route.name, lines_of, ("routes", route.index), outside, within)

    def judge(world: World) -> Judged:
        wrong = []
        for words, (asked, lines) in some.items():
            if (went := world.lines(asked)) != lines:
                wrong.append(f"{words} goes over {went[0] or 'no route'}, not {lines[0] or 'by no route'}")
        return Judged(not wrong, "; ".join(wrong) or "it does")

    yield Promise(proof, judge)


def mapping_promises(bench: Bench) -> Iterator[Promise]:
    """Both ends of each range are opened; a neighbouring port or host, the other protocol and one port more are not."""
    for grant in bench.plan.granting:
        host = _host(bench, grant)
        if host is not None:
            yield _of_grant(bench, grant, *host)


def _host(bench: Bench, grant: Grant) -> tuple[bytes, bytes] | None:
    """An address of its hosts; with the hardware address, if the grant names no addresses."""
    for width in (4, 16):
        named = first_of(grant.local.addresses, width)
        if named is not None:
            return named, b""
    some = next((host for width in (4, 16) if (host := first_of(bench.plan.hosts, width)) is not None), None)
    hardware = min(grant.local.members.hardware, default=b"")
    return (some, hardware) if some is not None and hardware else None


def _of_grant(bench: Bench, grant: Grant, host: bytes, hardware: bytes) -> Promise:
    wanted: dict[str, Opened] = {}
    unwanted: dict[str, Opened] = {}
    for protocol, spans in grant.ports.items():
        for first, last in spans:
            for port in dict.fromkeys((first, last)):
                wanted[f"port {port}/{TRANSPORTS[protocol]}"] = Opened(host, protocol, port, hardware)
            for port in (last + 1, first - 1):
                if 0 < port < 65_536:
                    unwanted[f"port {port}/{TRANSPORTS[protocol]}"] = Opened(host, protocol, port, hardware)
    some = next(iter(wanted.values()))
    for end in dict.fromkeys(end for span in grant.local.addresses for end in span):
        wanted[f"{ip_address(end)}"] = some._replace(local=end, hardware=b"")
    for other in TRANSPORTS:
        if other not in grant.ports:
            unwanted[f"port {some.inside}/{TRANSPORTS[other]}"] = some._replace(protocol=other)
    for stranger in _strangers(bench, grant, host):
        unwanted[f"{ip_address(stranger)}"] = some._replace(local=stranger, hardware=b"")
    if hardware:
        next_device = bytes((*hardware[:-1], hardware[-1] ^ 1))
        unwanted["the next hardware address"] = some._replace(hardware=next_device)
    if sum(last - first + 1 for spans in grant.ports.values() for first, last in spans) > grant.count:
        unwanted[f"port number {grant.count + 1} of a host"] = some._replace(earlier=grant.count)
    others = [other for other in bench.plan.granting if other is not grant]
    refused = {words: asked for words, asked in unwanted.items() if not any(_grants(other, asked) for other in others)}
    expected = f"opens {len(wanted)} ports, not {len(refused)} others" if refused else f"opens {len(wanted)} ports"
    cases = (*(f"opens {words}" for words in wanted), *(f"refuses {words}" for words in refused))

    def judge(world: World) -> Judged:
        wrong = [f"{words} is not opened" for words, asked in wanted.items() if not world.opened(asked)]
        wrong += [f"{words} is opened" for words, asked in refused.items() if world.opened(asked)]
        return Judged(not wrong, "; ".join(wrong) or "it does")

    proof = Proof("mapping", grant.name, grant.uplink, ("mappings", grant.index), expected, cases=cases)
    return Promise(proof, judge)


def _grants(grant: Grant, asked: Opened) -> bool:
    """Whether a grant is for a port and its host."""
    who = asked.local in grant.local.addresses or asked.hardware in grant.local.members.hardware
    return who and any(first <= asked.inside <= last for first, last in grant.ports.get(asked.protocol, ()))


def _strangers(bench: Bench, grant: Grant, host: bytes) -> Iterator[bytes]:
    """The neighbouring addresses, and a host of each network that the grant leaves out."""
    width = len(host)
    for first, last in grant.local.addresses:
        for number in (int.from_bytes(last) + 1, int.from_bytes(first) - 1) if len(first) == width else ():
            if 0 < number < 1 << 8 * width and (beside := number.to_bytes(width)) in bench.plan.hosts:
                yield beside
    for network in bench.plan.networks:
        rest = AddressSet(network.addresses) - grant.local.addresses
        if (other := first_of(rest, width)) is not None:
            yield other

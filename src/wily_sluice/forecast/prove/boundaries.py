"""Promises about the boundaries of rules, limiters and routes.

A rule matches at both ends of each of its ranges. For each of its terms, a conversation that misses by that term alone
must go elsewhere: the next port, a neighbouring address, another protocol, a similar name.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from ipaddress import ip_address
from typing import Any, NamedTuple, TypeAlias

from wily_sluice.engine.classify.condition import LONGEST_PACKET
from wily_sluice.engine.classify.header import TCP, UDP
from wily_sluice.engine.classify.service import NOTHING, Known
from wily_sluice.forecast.prove.bench import Bench, with_limiter
from wily_sluice.forecast.prove.conversations import route_example, where_it_applies
from wily_sluice.forecast.prove.example import (
    LOCAL_PORT,
    REMOTE_PORT,
    REMOTES,
    Example,
    first_of,
    meant,
    remote_for,
    remotes_for,
    rule_of,
)
from wily_sluice.forecast.prove.limiters import limited_hosts
from wily_sluice.forecast.prove.proof import (
    TOLERANCE,
    CannotTry,
    Flood,
    Judged,
    Led,
    Part,
    Promise,
    Proof,
    Stream,
    Where,
    World,
    figure,
)
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Limiter, Plan, Route, Rule, Uplink
from wily_sluice.plan.terms import Party, Terms
from wily_sluice.units import DIRECTIONS, Direction

OTHER_DSCP = 46  # expedited forwarding, which few ask for
MOST_MISSES = 12  # of one rule
BESIDE = 3  # conversations that a limiter must leave alone, in one flood
APART = 1.25  # times a limiter's rate, that each of them sends at least


class Miss(NamedTuple):
    """A conversation that misses by one term, in words."""

    words: str
    example: Example


Misses: TypeAlias = Iterator[Miss]


def misses(plan: Plan, example: Example, terms: Terms) -> Misses:
    """Conversations like one that matches, each different by one of the terms. Some may match nevertheless."""
    for part in terms.walk():
        for key, value in part.asked.items():
            if key in _FIELDS:
                yield from _FIELDS[key](plan, example, value)
    for block in terms.none:
        for part in block.walk():
            for key, value in part.asked.items():
                if key in _INSIDE:
                    yield from _INSIDE[key](plan, example, value)


def edges(plan: Plan, example: Example, terms: Terms) -> Misses:
    """Conversations like one that matches, at either end of a range of the terms."""
    for part in terms.walk() if not terms.none else (terms,):
        for key, value in part.asked.items():
            if key in ("local", "network", "remote"):
                width = len(example.parties.local)
                ends = [end for span in value.addresses if len(span[0]) == width for end in span]
                for end in ends:
                    if key == "remote":
                        far = replace(example, parties=example.parties._replace(remote=end))
                        yield Miss(f"to {_text(end)}", _named(far, ""))
                    elif end in plan.hosts and not _is_end_of_network(plan, end):
                        yield _from(replace(example, hardware=b""), end)
            elif key in ("port", "remote-port", "local-port"):
                for port in dict.fromkeys(end for span in value for end in span):
                    if 0 < port < 65_536:
                        yield _at(example, port, key != "local-port")
            if key == "remote":
                usual = (far for far in remotes_for(plan, width) if far not in value.addresses)
                elsewhere = replace(example, parties=example.parties._replace(remote=next(usual, REMOTES[0])))
                for name in sorted(value.members.names):
                    word = name.replace("*.", "a.")
                    yield Miss(f"to {word}", _named(elsewhere, word))
            elif key == "service":
                bare = replace(example, known=NOTHING, shape="")
                for service in value.services:
                    for protocol, span in service.ports:
                        for port in dict.fromkeys(span):
                            parties = example.parties._replace(protocol=protocol, remote_port=port)
                            yield Miss(f"to port {port}", replace(bare, parties=parties, shape=service.shape))


def _at(example: Example, port: int, remote: bool) -> Miss:
    if remote:
        return Miss(f"to port {port}", replace(example, parties=example.parties._replace(remote_port=port)))
    return Miss(f"from port {port}", replace(example, parties=example.parties._replace(local_port=port)))


def _is_end_of_network(plan: Plan, address: bytes) -> bool:
    """Whether it is the address of a network itself, or its broadcast address: no host has these."""
    return any(address in span for network in plan.networks for span in network.addresses)


def _neighbours(party: Party, width: int) -> Iterator[bytes]:
    """The addresses right before and behind the ranges of a party."""
    for first, last in party.addresses:
        if len(first) == width:
            for number in (int.from_bytes(last) + 1, int.from_bytes(first) - 1):
                if 0 < number < 1 << (8 * width):
                    yield number.to_bytes(width)


def _from(example: Example, local: bytes) -> Miss:
    return Miss(f"from {_text(local)}", replace(example, parties=example.parties._replace(local=local)))


def _text(packed: bytes) -> str:
    return str(ip_address(packed))


def _local(plan: Plan, example: Example, party: Party) -> Misses:
    width = len(example.parties.local)
    bare = replace(example, hardware=b"")
    if example.hardware:
        other = bytes((*example.hardware[:-1], example.hardware[-1] ^ 1))
        yield Miss("from the next hardware address", replace(example, hardware=other))
    for address in _neighbours(party, width):
        if address in plan.hosts and not _is_end_of_network(plan, address):
            yield _from(bare, address)
    for network in plan.networks:
        other_host = first_of(network.addresses - party.addresses, width)
        if other_host is not None:
            yield _from(bare, other_host)


def _remote(plan: Plan, example: Example, party: Party) -> Misses:
    for address in _neighbours(party, len(example.parties.remote)):
        if address not in plan.hosts:
            far = example.parties._replace(remote=address)
            yield Miss(f"to {_text(address)}", _named(replace(example, parties=far), ""))
    for usual in remotes_for(plan, len(example.parties.remote)):
        if usual not in party.addresses:
            elsewhere = replace(example, parties=example.parties._replace(remote=usual))
            for name in sorted(party.members.names):
                bare = name.removeprefix("*.")
                if name != bare:
                    yield Miss(f"to {bare}", _named(elsewhere, bare))
                yield Miss(f"to x{bare}", _named(elsewhere, f"x{bare}"))
            yield Miss(f"to {_text(usual)}", _named(elsewhere, ""))
            return


def _named(example: Example, name: str) -> Example:
    return replace(example, known=Known(example.known.seen, (name,) if name else ()))


def _protocol(plan: Plan, example: Example, asked: Sequence[int]) -> Misses:
    for protocol, words in ((TCP, "TCP"), (UDP, "UDP")):
        if protocol not in asked:
            parties = example.parties._replace(protocol=protocol)
            if not parties.remote_port:
                parties = parties._replace(local_port=LOCAL_PORT, remote_port=REMOTE_PORT)
            yield Miss(f"over {words}", replace(example, parties=parties))


def _beyond(ranges: Sequence[tuple[int, int]]) -> Iterator[int]:
    for first, last in ranges:
        yield from (port for port in (last + 1, first - 1) if 0 < port < 65_536)


def _port(remote: bool) -> Callable[[Plan, Example, Sequence[tuple[int, int]]], Misses]:
    def ports(plan: Plan, example: Example, asked: Sequence[tuple[int, int]]) -> Misses:
        for port in _beyond(asked):
            yield _at(example, port, remote)

    return ports


def _service(plan: Plan, example: Example, asked: Any) -> Misses:
    bare = replace(example, known=NOTHING, shape="")
    yield Miss("with nothing recognised", bare)
    for service in asked.services:
        for _, (first, last) in service.ports:
            for port in (last + 1, first - 1):
                if 0 < port < 65_536:
                    yield Miss(f"to port {port}", replace(bare, parties=example.parties._replace(remote_port=port)))
        for name in service.names:
            yield Miss(f"to x{name.removeprefix('*.')}", replace(_named(bare, f"x{name.removeprefix('*.')}"), shape=""))


def _version(plan: Plan, example: Example, asked: int) -> Misses:
    width = 16 if asked == 4 else 4
    local = first_of(plan.hosts, width)
    if local is not None:
        ends = example.parties._replace(local=local, remote=remote_for(plan, width))
        yield Miss(f"over IPv{6 if asked == 4 else 4}", replace(example, parties=ends))


def _dscp(plan: Plan, example: Example, asked: Sequence[int]) -> Misses:
    for dscp in (max(asked) + 1, min(asked) - 1, OTHER_DSCP):
        if 0 <= dscp < 64 and dscp not in asked:
            yield Miss(f"with DSCP {dscp}", replace(example, dscps=1 << dscp))


def _moved(plan: Plan, example: Example, asked: tuple[int, bool]) -> Misses:
    size, over = asked
    yield Miss(
        "with less volume" if over else "with more volume",
        replace(example, moved=size * 4 // 5 if over else size * 5 // 4),
    )


def _rate(plan: Plan, example: Example, asked: object) -> Misses:
    yield Miss("slower", replace(example, fast=0))


def _kind(plan: Plan, example: Example, asked: int) -> Misses:
    yield Miss("another packet", replace(example, kind=0))


def _length(plan: Plan, example: Example, asked: tuple[int, bool]) -> Misses:
    length, longer = asked
    yield Miss(
        "a shorter packet" if longer else "a longer packet", replace(example, length=length if longer else length + 1)
    )


_FIELDS: dict[str, Callable[[Plan, Example, Any], Misses]] = {
    "local": _local,
    "network": _local,
    "remote": _remote,
    "protocol": _protocol,
    "port": _port(remote=True),
    "remote-port": _port(remote=True),
    "local-port": _port(remote=False),
    "service": _service,
    "version": _version,
    "dscp": _dscp,
    "moved": _moved,
    "rate": _rate,
    "packet": _kind,
    "length": _length,
}


def _in_party(plan: Plan, example: Example, party: Party) -> Misses:
    host = first_of(party.addresses, len(example.parties.local))
    if host is not None and host in plan.hosts:
        yield _from(example, host)


def _at_remote(plan: Plan, example: Example, party: Party) -> Misses:
    far = first_of(party.addresses, len(example.parties.remote))
    if far is not None:
        yield Miss(f"to {_text(far)}", replace(example, parties=example.parties._replace(remote=far)))
    for name in sorted(party.members.names):
        yield Miss(f"to {name.replace('*.', 'a.')}", _named(example, name.replace("*.", "a.")))


def _at_port(plan: Plan, example: Example, asked: Sequence[tuple[int, int]]) -> Misses:
    for first, last in asked:
        for port in dict.fromkeys((first, last)):
            yield Miss(f"to port {port}", replace(example, parties=example.parties._replace(remote_port=port)))


_INSIDE: dict[str, Callable[[Plan, Example, Any], Misses]] = {
    "local": _in_party,
    "network": _in_party,
    "remote": _at_remote,
    "port": _at_port,
    "remote-port": _at_port,
}


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

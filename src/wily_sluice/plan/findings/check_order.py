"""What is wrong, or doubtful, in the order of rules: those that are never reached, and those that miss what they mean.

Whether a rule is out of reach is worked out exactly (`reach`, `regions`), for all that rules can ask of; where names,
services or what takes time is involved, the message says “may”, since these change as a conversation goes on.
"""

from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from functools import cache
from random import Random
from typing import TypeVar

from wily_sluice.plan.asking import Terms
from wily_sluice.plan.file.document import Document, Reading
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.file.traffic_words import protocol_text
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.check_limiters import of_one_version
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.groups.services import shipped_services
from wily_sluice.plan.model import Plan, Rule
from wily_sluice.plan.reach.regions import Box, TooInvolvedError
from wily_sluice.plan.reach.space import Space
from wily_sluice.plan.reach.takers import Takers, draw

UNSURE = ("name", "service", "rate", "hardware", "moved")
WEB_PORTS = (80, 443)
TCP, UDP = 6, 17
MOST_NAMED = 3  # rules in one message
MOST_TAKERS = 2000  # rules that together leave nothing of one: beyond that it is not told
ALONE_DRAWS = 8

Asked = TypeVar("Asked")


def check_order(plan: Plan, reading: Reading[PlanEntry]) -> Iterator[Finding]:
    """All findings about the order of rules."""
    document = reading.document
    for rule, by in out_of_reach(plan):
        yield _shadowed(rule, by, document)
    apart: set[int] = set()  # ports of the web of which a rule above takes the bulk
    over = _other_transports(plan)
    for rule in plan.sorting:
        yield from _one_version(plan, rule, document)
        yield from _one_transport(rule, over, document)
        ports = _web_ports(rule.terms)
        if not ports <= apart:
            yield from _web_first(plan, rule, sorted(ports - apart), document)
        if _limits_bulk(rule.terms):
            apart |= set(WEB_PORTS) if rule.terms.services or not _some_ports(rule.terms) else ports


def out_of_reach(plan: Plan) -> list[tuple[Rule, list[Rule]]]:
    """The rules that no conversation can come to, each with those above it that take all of it between them."""
    space = Space(plan)
    asked = [_unless_too_involved(space.region, rule.terms) for rule in plan.sorting]
    takers = Takers(asked)
    found = []
    for place, rule in enumerate(plan.sorting):
        asks = asked[place]
        region = _unless_too_involved(space.possible, asks) if asks is not None else None
        if region:
            by = _covering(space, region, place, asked, takers)
            if by is not None:
                found.append((rule, [plan.sorting[one] for one in by]))
        elif region is not None:
            found.append((rule, []))
    return found


def _unless_too_involved(find: Callable[[Asked], list[Box]], what: Asked) -> list[Box] | None:
    try:
        return find(what)
    except TooInvolvedError:
        return None


def _covering(
    space: Space, region: list[Box], place: int, asked: list[list[Box] | None], takers: Takers
) -> list[int] | None:
    """The rules above a place that leave nothing of a region; None when something is left."""
    rest, by = region, []
    drawn = Random(place)
    for _ in range(MOST_TAKERS):
        taking = takers.of(draw(rest, space.whole, drawn), place)
        if not taking:
            return None
        try:
            rest = space.left(rest, asked[taking[0]] or [])
        except TooInvolvedError:
            return None
        by.append(taking[0])
        if not rest:
            break
    else:
        return None
    # One of them may do it alone, and then the others have nothing to do with it.
    able = set(takers.of(draw(region, space.whole, drawn), place))
    for _ in range(ALONE_DRAWS):
        able &= set(takers.of(draw(region, space.whole, drawn), place))
    for one in sorted(able):
        with suppress(TooInvolvedError):
            if not space.left(region, asked[one] or []):
                return [one]
    return sorted(by)


def _unsure(terms: Terms) -> bool:
    parts = list(terms.walk())
    return any(
        part.services or part.rate or part.moved or (part.remote is not None and part.remote.members.names)
        or (part.local is not None and part.local.members.hardware)
        for part in parts
    )  # fmt: skip


def _shadowed(rule: Rule, by: list[Rule], document: Document) -> Finding:
    here = ("rules", rule.place)
    if not by:
        return document.warning(here, "can never match: what it asks for cannot be all at once", "take a part out")
    names = ", ".join(one.name for one in by[:MOST_NAMED]) + (" and others" if len(by) > MOST_NAMED else "")
    if len(by) == 1 and by[0].terms == rule.terms:
        same = by[0].queues == rule.queues and by[0].mark == rule.mark
        remedy = "take one out" if same else "take one out: the first decides"
        return document.warning(here, f"repeats {names} above it, and is never reached", remedy)
    if len(by) == 1 and by[0].terms.anyone:
        return document.warning(here, f"is never reached: {names} above it matches everything", "move it up")
    never = "may never be reached" if any(_unsure(one.terms) for one in (rule, *by)) else "is never reached"
    takes = "matches all that it would" if len(by) == 1 else "match all that it would, between them"
    return document.warning(here, f"{never}: {names} above it {takes}", "move it up, or take it out")


def _one_version(plan: Plan, rule: Rule, document: Document) -> Iterator[Finding]:
    """A rule for hosts by their IPv4 addresses, where their network has IPv6 as well."""
    local = rule.terms.local
    if local is None or rule.terms.version is not None or rule.terms.remote is not None:
        return
    network = of_one_version(plan, local)
    if network is not None:
        message = f"is for IPv4 alone, and {network} has IPv6: what these hosts do over it goes elsewhere"
        remedy = "add their IPv6 addresses, name them by hardware address, or say `version: 4`"
        yield document.warning(("rules", rule.place, "local"), message, remedy)


@cache
def _both_transports() -> dict[int, str]:
    """Ports that a service uses over TCP and UDP alike, and its name."""
    found: dict[int, str] = {}
    for service in shipped_services().values():
        if service.shape:
            continue
        by_protocol: dict[int, set[int]] = {}
        for protocol, (first, last) in service.ports:
            if last - first < 100:
                by_protocol.setdefault(protocol, set()).update(range(first, last + 1))
        for port in by_protocol.get(TCP, set()) & by_protocol.get(UDP, set()):
            found.setdefault(port, service.name)
    return found


def _some_ports(terms: Terms) -> tuple[tuple[int, int], ...]:
    return terms.ports or terms.remote_ports or ()


def _other_transports(plan: Plan) -> dict[tuple[str, int], set[int]]:
    """Which of the ports that services use over both rules name, by the queue that they go to and the protocol."""
    found: dict[tuple[str, int], set[int]] = {}
    shared = _both_transports()
    for rule in plan.sorting:
        named = {port for first, last in _some_ports(rule.terms) for port in shared if first <= port <= last}
        for protocol in (TCP, UDP):
            if rule.terms.protocols is None or protocol in rule.terms.protocols:
                for queue in rule.queues.values():
                    found.setdefault((queue, protocol), set()).update(named)
    return found


def _one_transport(rule: Rule, over: Mapping[tuple[str, int], set[int]], document: Document) -> Iterator[Finding]:
    """A rule for a port over TCP or UDP alone, where the service behind it uses both."""
    ports = _some_ports(rule.terms)
    if not ports or rule.terms.protocols not in ((TCP,), (UDP,)):
        return
    shared = _both_transports()
    wanted = UDP if rule.terms.protocols == (TCP,) else TCP
    other = protocol_text((wanted,))
    for port, service in sorted(shared.items()):
        if any(port in over.get((queue, wanted), ()) for queue in rule.queues.values()):
            continue
        if any(first <= port <= last for first, last in ports):
            message = (
                f"is for {protocol_text(rule.terms.protocols)} alone, and {service} uses port {port} over {other} too"
            )
            remedy = f"take “protocol” out, or write `service: {service}`"
            yield document.warning(("rules", rule.place, "protocol"), message, remedy)
            return


def _web_ports(terms: Terms) -> set[int]:
    """Which of the ports of the web some terms ask for."""
    if any(service.category == "web" for service in terms.services or ()):
        return set(WEB_PORTS)
    spans = [(first, last) for first, last in _some_ports(terms) if last - first < 1000]
    return {port for port in WEB_PORTS if any(first <= port <= last for first, last in spans)}


def _limits_bulk(terms: Terms) -> bool:
    return any(
        part.moved or part.rate or any(service.shape for service in part.services or ()) for part in terms.walk()
    )


def _web_first(plan: Plan, rule: Rule, ports: list[int], document: Document) -> Iterator[Finding]:
    """A rule that puts the web first, with none above that takes the bulk of these ports, so that a download goes
    first too.
    """
    if _limits_bulk(rule.terms) or rule.terms.kinds:
        return
    for name, path in rule.queues.items():
        tree = plan.trees[name]
        queues = {queue.path: queue for queue in tree.walk()}
        top, default = queues[path.partition("/")[0]], queues[tree.default.path.partition("/")[0]]
        if tree.discipline != "curve" and top.priority < default.priority:
            named = f"[{', '.join(map(str, ports))}]" if len(ports) > 1 else str(ports[0])
            service = "service: web" if rule.terms.services else f"port: {named}"
            message = (
                f"lets downloads go before others too: they use the same ports, and {path} has priority {top.priority}"
            )
            remedy = f"put {{{service}, moved: over 20 MB, queue: {tree.default.path}}} above it"
            location: Location = ("rules", rule.place)
            yield document.warning(location, message, remedy)
            return

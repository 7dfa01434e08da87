"""Findings about routes."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.findings.rules import listed, unsure
from wily_sluice.plan.reach.covered import refused
from wily_sluice.plan.terms import Service, Terms


def _early(service: Service) -> bool:
    """Whether it has a sign that is there when a conversation opens."""
    return bool(service.ports or service.names or service.remote) and not service.shape


@kind(
    "route-unrecognised",
    "warning",
    story="""\
A conversation gets its uplink with the first packet and keeps it. Its protocol and behaviour are not known by then,
so a route that depends on them alone never applies. Ports, names and addresses of remotes are known in time.
""",
    has="""\
services:
  chat: {seen: rtp}
routes:
  - {service: chat, uplink: line}
""",
    lacks="""\
services:
  chat: {seen: rtp, ports: [41100/udp]}
routes:
  - {service: chat, uplink: line}
""",
)
def route_unrecognised(checked: Checked) -> Iterator[Told]:
    """Routes that need the protocol of a conversation, which is unknown when it opens."""
    opened = {grant.service for grant in checked.plan.granting}
    for route in checked.plan.routing:
        services = [service for terms in route.terms.walk() if terms.services for service in terms.services]
        if services and not any(_early(service) or service.name in opened for service in services):
            names = " and ".join(dict.fromkeys(word for terms in route.terms.walk() for word in terms.service_words))
            message = f"{names} is recognised only by its protocol, which is unknown when a conversation is routed"
            yield Told(("routes", route.index), message, "give the service ports, names or addresses")


@kind(
    "route-unreachable",
    "warning",
    whole=True,
    story="""\
The first matching route with a working uplink decides. Earlier routes already match all the conversations of this
route and have a working uplink whenever this route has one, so it has no effect here. Put exceptions ahead of the
general case. A later route that serves when the earlier uplinks are down is not reported.
""",
    has="""\
routes:
  - {name: Rest, uplink: line}
  - {name: Office, local: office, uplink: line}
""",
    lacks="""\
routes:
  - {name: Office, local: office, uplink: line}
  - {name: Rest, uplink: line}
""",
)
def route_unreachable(checked: Checked) -> Iterator[Told]:
    """A route that no conversation reaches: earlier ones match them all and have an uplink whenever it has."""
    for route, by in checked.routes_out_of_reach:
        location = ("routes", route.index)
        if not by:
            yield Told(location, "can never match: its conditions exclude each other", "take a part out")
            continue
        match = "already matches" if len(by) == 1 else "together already match"
        never = "may never be reached" if any(unsure(rule.terms) for rule in (route, *by)) else "is never reached"
        message = f"{never}: {listed(by)} above it {match} everything that it would, whichever lines are up"
        yield Told(location, message, "move it up or remove it")


@kind(
    "route-refused",
    "warning",
    whole=True,
    once=True,
    story="""\
The uplinks of a route skip conversations whose queue they refuse. If they refuse every queue that the route's
traffic uses, the route has no effect.
""",
    has="""\
uplinks:
  line: {probe: [203.0.113.1]}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s, probe: [203.0.113.1], refuses: [backups]}
trees:
  main:
    queues:
      backups: {guarantee: 5%, priority: 8}
rules:
  - {service: calls, local: guests, queue: calls}
  - {local: office, queue: backups}
routes:
  - {local: office, uplink: mobile, else: line}
""",
    lacks="""\
uplinks:
  line: {probe: [203.0.113.1]}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s, probe: [203.0.113.1], refuses: [backups]}
trees:
  main:
    queues:
      backups: {guarantee: 5%, priority: 8}
rules:
  - {service: calls, local: guests, queue: calls}
  - {local: office, port: 873, queue: backups}
routes:
  - {local: office, uplink: mobile, else: line}
""",
)
def route_refused(checked: Checked) -> Iterator[Told]:
    """A route over a line that refuses all that the route matches."""
    for route, lines in refused(checked.plan):
        shares = [name for name, _ in route.shares]
        chosen = [name for name in shares if name in lines]
        if chosen:
            single = len(chosen) == 1
            message = f"{' and '.join(chosen)} {'refuses' if single else 'refuse'} the queue of all that it matches"
            left = [name for name in (*shares, route.otherwise) if name and name not in lines]
            message += f", so it only uses {' and '.join(left)}" if left else ", so it is never used"
            yield Told(("routes", route.index), message, "choose another line, or take the queue out of `refuses`")
        elif route.otherwise in lines:
            message = f"{route.otherwise} refuses the queue of all that the route matches, so it never takes over"
            yield Told(("routes", route.index, "else"), message, "choose another line")


def _late(terms: Terms) -> bool:
    over = terms.moved is not None and terms.moved[1]
    return over or bool(terms.rate) or any(service.shape == "bulk" for service in terms.services or ())


@kind(
    "refused-midway",
    "warning",
    story="""\
An uplink drops packets of queues that it `refuses`. The gate learns only during a conversation that it is bulk or
has moved a lot, so every long download on this uplink would break off. With a cap, it continues slowly.
""",
    has="""\
uplinks:
  line: {probe: [203.0.113.1]}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s, probe: [203.0.113.1], refuses: [backups]}
trees:
  main:
    queues:
      backups: {guarantee: 5%, priority: 8}
rules:
  - {service: calls, queue: calls}
  - {moved: over 20 MB, queue: backups}
""",
    lacks="""\
uplinks:
  line: {probe: [203.0.113.1]}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s, probe: [203.0.113.1], refuses: [backups]}
trees:
  main:
    queues:
      backups: {guarantee: 5%, priority: 8}
rules:
  - {service: calls, queue: calls}
  - {port: 873, queue: backups}
""",
)
def refused_midway(checked: Checked) -> Iterator[Told]:
    """A rule that leads what turns out to be bulk to a queue that an uplink refuses."""
    for rule in checked.plan.sorting:
        if not any(_late(terms) for terms in rule.terms.walk()):
            continue
        uplinks = [use.uplink.name for use in checked.uses if rule.queues.get(use.tree.name, "") in use.uplink.refuses]
        if uplinks:
            lines = " and ".join(dict.fromkeys(uplinks))
            message = f"matches only once a conversation is under way, and {lines} would then drop it midway"
            yield Told(("rules", rule.index), message, "cap the queue there instead, or match by host or name")

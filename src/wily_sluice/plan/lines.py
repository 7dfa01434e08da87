"""Lines: tunnels, routes, grants and kept ports as they are read, and the line of a conversation."""

from collections.abc import Callable, Sequence

from wily_sluice.engine.classify.classifier import NO_LINE
from wily_sluice.engine.classify.header import UDP
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.site import SiteEngine
from wily_sluice.plan.file.document import Reading
from wily_sluice.plan.file.schema import MappingEntry, NatEntry, PlanEntry, RouteEntry, TunnelEntry
from wily_sluice.plan.file.words import suggestion
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Budget, Limiter, Plan, Route, Tunnel, Uplink
from wily_sluice.plan.resolver import Resolver
from wily_sluice.plan.terms import TRANSPORTS, Grant, Party

TOO_LATE = ("moved", "rate", "packet", "length")  # for routes


class Lines:
    """Tunnels and routes of one plan file; `error` receives problems with their places."""

    def __init__(
        self, reading: Reading[PlanEntry], resolve: Resolver, entry: PlanEntry, error: Callable[..., None]
    ) -> None:
        self._reading = reading
        self._resolve = resolve
        self._uplinks = list(entry.uplinks)
        self._lines = [*entry.uplinks, *entry.tunnels]
        self._error = error

    def tunnel(self, name: str, e: TunnelEntry) -> Tunnel:
        """An entry of `tunnels`; problems are reported."""
        here = ("tunnels", name)
        if name in self._uplinks:
            self._error(here, f"“{name}” is an uplink already", "give the tunnel another name")
        self._resolve.require((*here, "uplink"), "uplink", e.uplink, self._uplinks)
        if e.uplink is None and len(self._uplinks) > 1:
            message = f"there are {len(self._uplinks)} uplinks, and none is named to carry it"
            self._error((*here, "uplink"), message, f"add `uplink: {self._uplinks[0]}`")
        ports = (e.port,) if e.port is not None else e.wrapping.ports
        if e.wrapping.protocol == UDP and not ports:
            self._error((*here, "port"), f"the UDP port of “{e.wrapping.words}” is missing", "add `port: 51820`")
        if e.wrapping.protocol != UDP and e.port is not None:
            self._error((*here, "port"), f"“{e.wrapping.words}” has no ports", "remove `port`")
        return Tunnel(
            name,
            e.interface,
            e.uplink or next(iter(self._uplinks), ""),
            e.wrapping.words,
            e.wrapping.wrapping(any(":" in remote for remote in e.remote), e.mtu),
            e.wrapping.protocol,
            ports,
            tuple(e.remote),
            tuple(e.next_hop),
        )

    def route(self, index: int, e: RouteEntry, limiters: Sequence[Limiter]) -> Route:
        """An entry of `routes`; problems are reported."""
        here = ("routes", index)
        if (e.uplink is None) == (e.uplinks is None) and not self._reading.was_cut(*here, "uplinks"):
            wrong = "says both `uplink` and `uplinks`" if e.uplink is not None else "says no uplink"
            self._error(
                here, wrong, f"write `uplink: {next(iter(self._uplinks), 'fibre')}`, or several with their weights"
            )
        shares = tuple(e.uplinks.items()) if e.uplinks is not None else ((e.uplink, 1.0),) if e.uplink else ()
        key = "uplinks" if e.uplinks is not None else "uplink"
        for name, _ in shares:
            self._line((*here, key), name)
        self._line((*here, "else"), e.else_)
        if e.else_ is not None and e.else_ in dict(shares):
            message = f"“{e.else_}” is already an uplink of this route, so it cannot be its alternative"
            self._error((*here, "else"), message, "name another uplink, or remove `else`")
        for part in e.walk():
            late = [key for key in TOO_LATE if part.said(key) is not None]
            if late or (part is not e and part.said("uplink") is not None):
                message = f"“{(late or ['uplink'])[0]}” is not known when a conversation opens, and then it is routed"
                self._error(
                    (*here, *late[:1]) if part is e else here, message, "ask for hosts, ports, names or services"
                )
        terms = self._resolve.terms(here, e, but=("uplink",))
        budget = self._budget((*here, "while"), *e.while_, shares, limiters) if e.while_ is not None else None
        return Route(e.name or f"route {index + 1}", index, terms, shares, e.else_, e.enabled, e.note, budget)

    def _budget(
        self,
        here: Location,
        share: float,
        word: str,
        shares: Sequence[tuple[str, float]],
        limiters: Sequence[Limiter],
    ) -> Budget | None:
        """A part of a quota that all share: that of the limiter with this name, or where the word is `quota`, of the
        only one on the route's uplinks.
        """
        of_all = [
            limiter
            for limiter in limiters
            if limiter.quota is not None and limiter.enabled and limiter.per.whom == "together"
        ]
        lines = [name for name, _ in shares]
        named = [
            limiter for limiter in of_all if (limiter.uplink in lines if word == "quota" else limiter.name == word)
        ]
        if len(named) == 1:
            return Budget(share, named[0].name)
        if word == "quota":
            message = (
                f"{'several limiters have' if named else 'no limiter has'} a quota of {' or '.join(lines)} for all"
            )
            remedy = f"write under {share:.0%} of the limiter’s name, one with `quota`, `per: together` and `uplink`"
            self._error(here, message, remedy)
        else:
            remedy = suggestion(word, [limiter.name for limiter in of_all]) if of_all else "give a limiter a `quota`"
            self._error(here, f"there is no limiter “{word}” with a quota for all together", remedy, "unknown-name")
        return None

    def _line(self, here: Location, name: str | None) -> None:
        """Tell when there is no uplink or tunnel of this name."""
        if name is not None and name not in self._lines and not self._reading.was_cut("uplinks", name):
            remedy = suggestion(name, self._lines)
            self._error(here, f"there is no uplink or tunnel “{name}”", remedy, "unknown-name")


class Grants:
    """The grants of one plan file; `error` receives problems with their places."""

    def __init__(self, resolve: Resolver, uplinks: list[str], error: Callable[..., None]) -> None:
        self._resolve = resolve
        self._uplinks = uplinks
        self._error = error

    def grant(self, index: int, e: MappingEntry) -> Grant:
        """An entry of `mappings`; problems are reported."""
        here = ("mappings", index)
        self._resolve.require((*here, "uplink"), "uplink", e.uplink, self._uplinks)
        ports: dict[int, tuple[tuple[int, int], ...]] = {}
        for protocol in e.protocol or TRANSPORTS:
            if protocol not in TRANSPORTS:
                self._error((*here, "protocol"), "only ports of TCP and UDP can be opened", "write tcp, udp, or both")
        for transport, span in self._resolve.ports((*here, "port"), e.port):
            for protocol in TRANSPORTS:
                if protocol in (e.protocol or TRANSPORTS) and transport in (None, protocol):
                    ports[protocol] = (*ports.get(protocol, ()), span)
        services = self._resolve.services_named((*here, "service"), (e.service,)) if e.service is not None else ()
        if len(services) > 1:
            self._error(
                (*here, "service"), f"“{e.service}” is several services", f"name one, such as {services[0].name}"
            )
        return Grant(
            e.name or f"mapping {index + 1}",
            index,
            self._resolve.party((*here, "local"), e.local),
            ports,
            e.count,
            e.lifetime,
            e.uplink or next(iter(self._uplinks), ""),
            services[0].name if services else "",
            e.enabled,
            e.note,
        )

    def steady(self, e: NatEntry) -> Party | None:
        """The hosts that keep their ports; None if there are none."""
        if not e.keep_ports:
            return None
        party = self._resolve.party(("nat", "keep-ports"), e.keep_ports)
        if party.members.hardware:
            message = "hardware addresses are not known where packets are translated"
            self._error(("nat", "keep-ports"), message, "write the hosts' addresses")
        return party


def line_of(plan: Plan, engine: SiteEngine, conversation: Conversation) -> Uplink | Tunnel | None:
    """The uplink of a new conversation, by present knowledge; None if no route has one.

    `engine` was built from the plan. A route with weights counts the conversation.
    """
    classifier = next(iter(engine.shapers.values())).classifier
    _, line = engine.router.choose(classifier.subject(conversation), refusing(plan, engine, conversation))
    return plan.lines[line] if line != NO_LINE else None


def spent_routes(plan: Plan, engine: SiteEngine) -> frozenset[str]:
    """The names of the routes whose part of a quota is used up."""
    quotas = {limiter.name: limiter.quota.size for limiter in plan.limiters if limiter.quota is not None}
    spent = set()
    for route in plan.routing:
        budget = route.budget
        if budget is not None and budget.limiter in engine.ledgers:
            used = sum(engine.ledgers[budget.limiter].used().values())
            if used >= budget.share * quotas[budget.limiter]:
                spent.add(route.name)
    return frozenset(spent)


def refusing(plan: Plan, engine: SiteEngine, conversation: Conversation) -> frozenset[int]:
    """The lines that refuse the queue of a conversation, and tunnels over these; by their places in `Plan.lines`."""
    lines = {
        uplink.name
        for uplink in plan.uplinks
        if uplink.refuses and engine.shapers[uplink.name, "up"].leaf_of(conversation).path in uplink.refuses
    }
    if not lines:
        return frozenset()
    carriers = {tunnel.name: tunnel.uplink for tunnel in plan.tunnels}
    return frozenset(n for n, line in enumerate(plan.lines) if carriers.get(line.name, line.name) in lines)

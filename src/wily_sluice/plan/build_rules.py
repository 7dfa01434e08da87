"""Compiles rules, and whom limiters name, into the engine's conditions."""

from collections.abc import Iterable

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.classifier import Rule, Sorter
from wily_sluice.engine.classify.condition import (
    All,
    AnyOf,
    Clock,
    Condition,
    FastIs,
    KindIs,
    LocalIs,
    MarkIs,
    MovedIs,
    Not,
    PortIs,
    ProtocolIs,
    RemoteIs,
    ServiceIs,
    VersionIs,
    WhenIs,
)
from wily_sluice.engine.classify.names import NameSet
from wily_sluice.engine.classify.neighbours import Neighbours
from wily_sluice.engine.classify.rule_index import Reach
from wily_sluice.engine.classify.service import Service
from wily_sluice.engine.conversations.watch import WatchSpec
from wily_sluice.plan import model as planned
from wily_sluice.plan.model import Party, Plan, Terms
from wily_sluice.units import Nanoseconds, Rate

NEVER = AnyOf()


def build_service(service: planned.Service) -> Service:
    """The signs of a service as the engine reads them."""
    ports: dict[int, tuple[tuple[int, int], ...]] = {}
    for protocol, ranges in service.ports:
        ports[protocol] = (*ports.get(protocol, ()), ranges)
    remote, names = service.remote.addresses, (*service.names, *service.remote.names)
    return Service(
        service.name,
        ports,
        frozenset(service.seen),
        NameSet(names) if names else None,
        remote if remote else None,
        service.shape,
        frozenset(service.over),
    )


class RuleBuilder:
    """Compiles a plan's terms. `clock` is what its schedules set."""

    def __init__(self, plan: Plan, clock: Clock, behaviour: bool = False) -> None:
        self._plan = plan
        self.clock = clock
        self._places = {name: place for place, name in enumerate(plan.schedules)}
        self._services = {name: build_service(service) for name, service in plan.services.items()}
        asked = [part for terms in self._asking() for part in terms.walk()]
        self.rates: tuple[tuple[Rate, Nanoseconds], ...] = tuple(dict.fromkeys(t.rate for t in asked if t.rate))
        self.watch = WatchSpec(
            tuple(terms.moved[0] for terms in asked if terms.moved),
            self.rates,
            behaviour or any(service.shape for terms in asked for service in terms.services or ()),
        )
        self.kinds = 0
        for terms in asked:
            self.kinds |= terms.kinds
        self.watches_marks = any(terms.dscps for terms in asked)

    def _asking(self) -> Iterable[Terms]:
        yield from (rule.terms for rule in self._plan.sorting)
        yield from (limiter.terms for limiter in self._plan.limiters)

    def condition(self, terms: Terms, uplink: str) -> Condition:
        """What these terms ask of a conversation on an uplink."""
        if terms.uplinks is not None and uplink not in terms.uplinks:
            return AnyOf((), "uplink")
        parts: list[Condition] = []
        if terms.local is not None:
            parts.append(LocalIs(terms.local.addresses, terms.local.members.hardware))
        if terms.networks is not None:
            parts.append(LocalIs(terms.networks.addresses, frozenset(), "network"))
        if terms.remote is not None:
            names = terms.remote.members.names
            parts.append(RemoteIs(terms.remote.addresses, NameSet(names) if names else None))
        if terms.version is not None:
            parts.append(VersionIs(terms.version))
        if terms.protocols is not None:
            parts.append(ProtocolIs(frozenset(terms.protocols)))
        if terms.ports is not None:
            parts.append(PortIs(terms.ports))
        if terms.local_ports is not None:
            parts.append(PortIs(terms.local_ports, remote=False))
        if terms.remote_ports is not None:
            parts.append(PortIs(terms.remote_ports, local=False))
        if terms.kinds:
            parts.append(KindIs(terms.kinds))
        if terms.dscps is not None:
            parts.append(MarkIs(sum(1 << dscp for dscp in set(terms.dscps))))
        if terms.when is not None:
            parts.append(WhenIs(self.clock, self._places[terms.when]))
        if terms.services is not None:
            parts.append(ServiceIs(tuple(self._services[service.name] for service in terms.services)))
        if terms.moved is not None:
            parts.append(MovedIs(*terms.moved))
        if terms.rate is not None:
            parts.append(FastIs(self.rates.index(terms.rate)))
        parts += [self.condition(part, uplink) for part in terms.all]
        if terms.any:
            parts.append(AnyOf(tuple(self.condition(part, uplink) for part in terms.any)))
        parts += [Not(self.condition(part, uplink)) for part in terms.none]
        return parts[0] if len(parts) == 1 else All(tuple(parts))

    def sorter(self, tree: planned.Tree, uplink: str, neighbours: Neighbours | None = None) -> Sorter:
        """The plan's rules and limiters, for one of its trees on one of its uplinks; leaves by their place in it."""
        index = {leaf.path: place for place, leaf in enumerate(tree.leaves)}
        default = index[tree.default.path]
        rules = tuple(
            Rule(
                self.condition(rule.terms, uplink),
                index[rule.queues[tree.name]] if tree.name in rule.queues else default,
                rule.mark if rule.mark is not None else -1,
                reach(rule.terms),
                rule.name,
            )
            for rule in self._plan.sorting
        )
        limiters = self._plan.limiters
        return Sorter(
            rules,
            default,
            tuple(self.condition(limiter.terms, uplink) for limiter in limiters),
            neighbours,
            tuple(reach(limiter.terms) for limiter in limiters),
            self.clock,
            self.watches_marks,
            self.kinds,
            self.watch,
            tuple(self._services.values()),
        )


def reach(terms: Terms) -> Reach:
    """What of these terms an index can see."""
    local = _addresses(terms.local)
    if terms.networks is not None:
        local = terms.networks.addresses if local is None else local & terms.networks.addresses
    return Reach(
        local,
        _addresses(terms.remote),
        frozenset(terms.protocols) if terms.protocols is not None else None,
        terms.ports,
        terms.local_ports,
        terms.remote_ports,
    )


def _addresses(party: Party | None) -> AddressSet | None:
    """None where a party may have other addresses, since it is known by something else as well."""
    if party is None or party.members.hardware or party.members.names:
        return None
    return party.addresses

"""Compiles rules, and whom limiters name, into the engine's conditions."""

from collections.abc import Iterable

from wily_sluice.engine.classify.addresses import AddressSet, NameSet
from wily_sluice.engine.classify.classifier import NO_LINE, Classifier, Route, Router, Rule
from wily_sluice.engine.classify.condition import (
    All,
    AnyOf,
    Clock,
    Condition,
    Not,
)
from wily_sluice.engine.classify.neighbours import Neighbours
from wily_sluice.engine.classify.rule_index import Reach
from wily_sluice.engine.classify.service import Service
from wily_sluice.engine.conversations.watch import WatchSpec
from wily_sluice.plan import model as planned
from wily_sluice.plan.field import Needs
from wily_sluice.plan.fields.registry import asked
from wily_sluice.plan.model import Plan
from wily_sluice.plan.terms import Party, Terms
from wily_sluice.plan.terms import Service as PlanService

NEVER = AnyOf()


def build_service(service: PlanService) -> Service:
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
        self._places = {name: index for index, name in enumerate(plan.schedules)}
        self._services = {name: build_service(service) for name, service in plan.services.items()}
        needs = Needs()
        for terms in self._asking():
            for part in terms.walk():
                for field, value in asked(part):
                    field.need(value, needs)
        self.rates = tuple(dict.fromkeys(needs.rates))
        self.kinds, self.watches_dscps = needs.kinds, needs.dscps
        self.lengths = tuple(sorted(needs.lengths))
        self.watch = WatchSpec(tuple(needs.sizes), self.rates, behaviour or needs.shapes)
        self.uplink = ""

    def schedule(self, name: str) -> int:
        """A schedule's index among the plan's."""
        return self._places[name]

    def signs(self, service: str) -> Service:
        """The signs of a service, as the engine reads them."""
        return self._services[service]

    def _asking(self) -> Iterable[Terms]:
        yield from (rule.terms for rule in self._plan.sorting)
        yield from (limiter.terms for limiter in self._plan.limiters)
        yield from (route.terms for route in self._plan.routing)

    def condition(self, terms: Terms, uplink: str) -> Condition:
        """The condition of these terms for conversations on an uplink."""
        self.uplink = uplink
        conditions = (field.condition(value, self) for field, value in asked(terms))
        parts = [condition for condition in conditions if condition is not None]
        parts += [self.condition(part, uplink) for part in terms.all]
        if terms.any:
            parts.append(AnyOf(tuple(self.condition(part, uplink) for part in terms.any)))
        parts += [Not(self.condition(part, uplink)) for part in terms.none]
        return parts[0] if len(parts) == 1 else All(tuple(parts))

    def router(self) -> Router:
        """The plan's routes, their lines by their places in `Plan.lines`."""
        places = {line.name: index for index, line in enumerate(self._plan.lines)}
        return Router(
            tuple(
                Route(
                    route.name,
                    self.condition(route.terms, ""),
                    tuple((places[name], weight) for name, weight in route.shares),
                    places[route.otherwise] if route.otherwise is not None else NO_LINE,
                )
                for route in self._plan.routing
            )
        )

    def classifier(self, tree: planned.Tree, uplink: str, neighbours: Neighbours | None = None) -> Classifier:
        """The plan's rules and limiters, for one of its trees on one of its uplinks; leaves by their index in it."""
        leaf_index = {leaf.path: index for index, leaf in enumerate(tree.leaves)}
        default = leaf_index[tree.default.path]
        rules = tuple(
            Rule(
                self.condition(rule.terms, uplink),
                leaf_index[rule.queues[tree.name]] if tree.name in rule.queues else default,
                rule.mark if rule.mark is not None else -1,
                reach(rule.terms),
                rule.name,
            )
            for rule in self._plan.sorting
        )
        limiters = self._plan.limiters
        return Classifier(
            rules,
            default,
            tuple(self.condition(limiter.terms, uplink) for limiter in limiters),
            neighbours,
            tuple(reach(limiter.terms) for limiter in limiters),
            self.clock,
            self.watches_dscps,
            self.kinds,
            self.watch,
            tuple(self._services.values()),
            self.lengths,
        )


def reach(terms: Terms) -> Reach:
    """The part of these terms that an index can represent."""
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
    """None if the party can also be identified by something other than addresses."""
    if party is None or party.members.hardware or party.members.names:
        return None
    return party.addresses

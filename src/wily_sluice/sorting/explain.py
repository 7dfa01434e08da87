"""Why a conversation is sorted as it is: one of a capture, or one that is only described."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from wily_sluice.engine.classify.classifier import Classifier
from wily_sluice.engine.classify.condition import Subject
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.classify.service import Known, Service
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.limit.limiter import limiters_of
from wily_sluice.engine.queueing.flow_path import FlowPath
from wily_sluice.engine.queueing.leaf_queue import Refusing
from wily_sluice.engine.queueing.node import Leaf
from wily_sluice.plan.build import build_site
from wily_sluice.plan.build_rules import build_service
from wily_sluice.plan.groups.services import shipped_services
from wily_sluice.plan.model import Plan, Route, Uplink
from wily_sluice.plan.terms import Terms
from wily_sluice.units import DIRECTIONS, Direction, Size

UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Tried:
    """A rule that did not match, its first field that did not, and the field's value.

    `unknown` means that the conversation's value is unknown, so that the rule may still match later.
    """

    rule: str
    field: str
    terms: Terms
    unknown: bool = False


@dataclass(frozen=True, slots=True)
class Way:
    """What happens to a conversation's packets in one direction. `rule` is None where the default decides.

    `limiters` are those that cap it, the first to be passed first; `idle` are others that match, each with the reason
    why it does not apply now; `mark` is a DSCP that is written on it, or None; `refused` says that its packets are
    dropped there.
    """

    uplink: str
    queue: str
    rule: str | None
    limiters: tuple[str, ...]
    mark: int | None
    tried: tuple[Tried, ...]
    idle: tuple[tuple[str, str], ...] = ()
    refused: bool = False


def way_of(
    plan: Plan,
    uplink: str,
    classifier: Classifier,
    flow_path: FlowPath,
    subject: Subject,
    unknown: frozenset[str] = frozenset(),
) -> Way:
    """A flow path in words; `unknown` are the fields whose values are unknown."""
    rules = plan.sorting
    before = flow_path.rule if flow_path.rule >= 0 else len(rules)
    tried = tuple(
        Tried(rule.name, field, rule.terms, _is_unknown(rule.terms, field, unknown))
        for index, rule in enumerate(rules[:before])
        for field in (classifier.rules[index].condition.fails(subject),)
    )
    return Way(
        uplink,
        flow_path.leaf.path,
        rules[flow_path.rule].name if flow_path.rule >= 0 else None,
        limiters_of(flow_path),
        rules[flow_path.rule].mark if flow_path.rule >= 0 else None,
        tried,
        tuple(_idle(plan, uplink, classifier, subject, set(limiters_of(flow_path)))),
        isinstance(flow_path.leaf, Leaf) and isinstance(flow_path.leaf.queue, Refusing),
    )


def _is_unknown(terms: Terms, field: str, unknown: frozenset[str]) -> bool:
    if field == "local":
        return "hardware" in unknown and terms.local is not None and bool(terms.local.members.hardware)
    if field == "remote":
        return "name" in unknown and terms.remote is not None and bool(terms.remote.members.names)
    return field in unknown


def _idle(
    plan: Plan, uplink: str, classifier: Classifier, subject: Subject, active: set[str]
) -> Iterator[tuple[str, str]]:
    """The limiters that match, but do not apply now, and why."""
    for limiter, condition in zip(plan.limiters, classifier.limiters, strict=True):
        if limiter.name in active or limiter.uplink not in (None, uplink) or not condition.holds(subject):
            continue
        if not limiter.enabled:
            yield limiter.name, "switched off"
        elif limiter.when is not None:
            yield limiter.name, f"outside {limiter.when}"


class Services:
    """The service of a conversation: the user's own services first, then the built-in ones."""

    def __init__(self, plan: Plan) -> None:
        own = {name: service for name, service in plan.services.items() if service.own}
        others = {name: service for name, service in shipped_services().items() if name not in own}
        self._services: list[tuple[str, Service]] = [
            (service.category if service.category != "own" else service.name, build_service(service))
            for service in (*own.values(), *others.values())
        ]

    def all(self, subject: Subject) -> tuple[tuple[str, str], ...]:
        """Every service that it has a sign of, with its category."""
        services = self._services
        return tuple(
            (service.name, category)
            for category, service in services
            if service.sign(subject.parties, subject.known, subject.shape)
        )

    def of(self, subject: Subject) -> tuple[str, str, str]:
        """The service, its category, and the sign that it has. The protocol counts before ports and shape."""
        best = (UNKNOWN, UNKNOWN, "")
        for category, service in self._services:
            sign = service.sign(subject.parties, subject.known, subject.shape)
            if sign and service.shape and not sign.startswith("is " + service.shape):
                sign += f" and is {service.shape}"
            if sign.startswith(("speaks", "is with")):
                return service.name, category, sign
            if sign and (best[0] == UNKNOWN or (best[2].startswith("is ") and not sign.startswith("is "))):
                best = (service.name, category, sign)
        return best


@dataclass(frozen=True, slots=True)
class Described:
    """A conversation as a user describes it. `kind` are bits of `engine.classify.kind`; `moved` is in bytes.

    `dscps` are the DSCPs of its packets, as bits; `hardware` is the local host's hardware address, or empty. `unknown`
    are the fields of rules that the description leaves open, including `name` and `hardware`.
    """

    parties: Parties
    names: tuple[str, ...] = ()
    seen: str = ""
    dscps: int = 1
    moved: Size = 0
    shape: str = ""
    kind: int = 0
    hardware: bytes = b""
    unknown: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class Answer:
    """Its flow path in each direction on each uplink, its service, and the route that chooses its uplink."""

    ways: dict[str, dict[Direction, Way]]
    service: str
    category: str
    sign: str
    route: Route | None = None
    also: tuple[tuple[str, str], ...] = ()  # other services that it has a sign of, with their categories


def explain(plan: Plan, uplinks: list[Uplink], described: Described, at: datetime) -> Answer:
    """Which way a conversation would go, at a moment in the site's time zone."""
    engine = build_site(plan, lambda _: None, behaviour=True)
    engine.at(at)
    if described.hardware:
        engine.learn(described.parties.local, described.hardware, 0)
    conversation = Conversation(key_of(described.parties))
    conversation.dscps = described.dscps
    conversation.known = Known(described.seen, described.names)

    def subject(kind: int) -> Subject:
        subject = Subject(conversation, engine.neighbours.hardware(described.parties.local), kind)
        subject.moved, subject.shape = described.moved, described.shape
        return subject

    ways: dict[str, dict[Direction, Way]] = {}
    for uplink in uplinks:
        ways[uplink.name] = {}
        for direction in DIRECTIONS:
            shaper = engine.shapers[uplink.name, direction]
            flow_path = shaper.flow_path_for(conversation, subject(described.kind))
            ways[uplink.name][direction] = way_of(
                plan, uplink.name, shaper.classifier, flow_path, subject(described.kind), described.unknown
            )
    chosen = next((n for n, route in enumerate(engine.router.routes) if route.condition.holds(subject(0))), None)
    route = plan.routing[chosen] if chosen is not None else None
    services = Services(plan)
    name, category, sign = services.of(subject(0))
    also = tuple(service for service in services.all(subject(0)) if service[0] != name)
    return Answer(ways, name, category, sign, route, also)

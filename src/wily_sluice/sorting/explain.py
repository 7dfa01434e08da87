"""Why a conversation is sorted as it is: the rules that were tried before, and which of their fields was not so."""

from collections.abc import Iterator
from dataclasses import dataclass

from wily_sluice.engine.classify.classifier import Classifier
from wily_sluice.engine.classify.condition import Subject
from wily_sluice.engine.classify.service import Service
from wily_sluice.engine.limit.limiter import limiters_of
from wily_sluice.engine.queueing.lane import Lane
from wily_sluice.engine.queueing.node import Leaf
from wily_sluice.engine.queueing.refusing import Refusing
from wily_sluice.plan.asking import Terms
from wily_sluice.plan.build_rules import build_service
from wily_sluice.plan.groups.services import shipped_services
from wily_sluice.plan.model import Plan

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
    plan: Plan, uplink: str, classifier: Classifier, lane: Lane, subject: Subject, unknown: frozenset[str] = frozenset()
) -> Way:
    """A lane in words; `unknown` are the fields whose values are unknown."""
    rules = plan.sorting
    before = lane.rule if lane.rule >= 0 else len(rules)
    tried = tuple(
        Tried(rule.name, field, rule.terms, _is_unknown(rule.terms, field, unknown))
        for index, rule in enumerate(rules[:before])
        for field in (classifier.rules[index].condition.fails(subject),)
    )
    return Way(
        uplink,
        lane.leaf.path,
        rules[lane.rule].name if lane.rule >= 0 else None,
        limiters_of(lane),
        rules[lane.rule].mark if lane.rule >= 0 else None,
        tried,
        tuple(_idle(plan, uplink, classifier, subject, set(limiters_of(lane)))),
        isinstance(lane.leaf, Leaf) and isinstance(lane.leaf.queue, Refusing),
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
        found = self._services
        return tuple(
            (service.name, category)
            for category, service in found
            if service.sign(subject.parties, subject.known, subject.shape)
        )

    def of(self, subject: Subject) -> tuple[str, str, str]:
        """The service, its category, and the sign that it has. The protocol counts before ports and shape."""
        found = (UNKNOWN, UNKNOWN, "")
        for category, service in self._services:
            sign = service.sign(subject.parties, subject.known, subject.shape)
            if sign and service.shape and not sign.startswith("is " + service.shape):
                sign += f" and is {service.shape}"
            if sign.startswith(("speaks", "is with")):
                return service.name, category, sign
            if sign and (found[0] == UNKNOWN or (found[2].startswith("is ") and not sign.startswith("is "))):
                found = (service.name, category, sign)
        return found

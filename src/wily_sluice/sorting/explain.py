"""Why a conversation is sorted as it is: the rules that were tried before, and which of their fields was not so."""

from dataclasses import dataclass

from wily_sluice.engine.classify.classifier import Classifier
from wily_sluice.engine.classify.condition import Subject
from wily_sluice.engine.classify.service import Service
from wily_sluice.engine.limit.limiter import limiters_of
from wily_sluice.engine.queueing.lane import Lane
from wily_sluice.plan.asking import Terms
from wily_sluice.plan.build_rules import build_service
from wily_sluice.plan.groups.services import shipped_services
from wily_sluice.plan.model import Plan

UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Tried:
    """A rule that did not match, the first of its fields that was not so, and what it asks for."""

    rule: str
    field: str
    terms: Terms


@dataclass(frozen=True, slots=True)
class Way:
    """What happens to a conversation's packets in one direction. `rule` is None where the default decides.

    `limiters` are those that cap it, the first to be passed first; `mark` a DSCP that is written on it, or None.
    """

    uplink: str
    queue: str
    rule: str | None
    limiters: tuple[str, ...]
    mark: int | None
    tried: tuple[Tried, ...]


def way_of(plan: Plan, uplink: str, classifier: Classifier, lane: Lane, subject: Subject) -> Way:
    """A lane in words."""
    rules = plan.sorting
    before = lane.rule if lane.rule >= 0 else len(rules)
    tried = tuple(
        Tried(rule.name, classifier.rules[index].condition.fails(subject), rule.terms)
        for index, rule in enumerate(rules[:before])
    )
    return Way(
        uplink,
        lane.leaf.path,
        rules[lane.rule].name if lane.rule >= 0 else None,
        limiters_of(lane),
        rules[lane.rule].mark if lane.rule >= 0 else None,
        tried,
    )


class Services:
    """Tells of which service a conversation is: the person's own first, then those that come with the program."""

    def __init__(self, plan: Plan) -> None:
        own = {name: service for name, service in plan.services.items() if service.own}
        others = {name: service for name, service in shipped_services().items() if name not in own}
        self._services: list[tuple[str, Service]] = [
            (service.category if service.category != "own" else service.name, build_service(service))
            for service in (*own.values(), *others.values())
        ]

    def of(self, subject: Subject) -> tuple[str, str, str]:
        """The service, its category, and the sign by which it is told. What was seen counts before ports and shape."""
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

"""Classifies one conversation that is only described: its parties, and what would be known about it."""

from dataclasses import dataclass
from datetime import datetime

from wily_sluice.engine.classify.condition import Subject
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.classify.known import Known
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.plan.build import build_site
from wily_sluice.plan.model import Plan, Route, Uplink
from wily_sluice.sorting.explain import Services, Way, way_of
from wily_sluice.units import DIRECTIONS, Direction, Size


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
    """Its lane in each direction on each uplink, its service, and the route that chooses its uplink."""

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
        one = Subject(conversation, engine.neighbours.hardware(described.parties.local), kind)
        one.moved, one.shape = described.moved, described.shape
        return one

    ways: dict[str, dict[Direction, Way]] = {}
    for uplink in uplinks:
        ways[uplink.name] = {}
        for direction in DIRECTIONS:
            shaper = engine.shapers[uplink.name, direction]
            lane = shaper.lane_for(conversation, subject(described.kind))
            ways[uplink.name][direction] = way_of(
                plan, uplink.name, shaper.classifier, lane, subject(described.kind), described.unknown
            )
    chosen = next((n for n, one in enumerate(engine.router.routes) if one.condition.holds(subject(0))), None)
    route = plan.routing[chosen] if chosen is not None else None
    services = Services(plan)
    name, category, sign = services.of(subject(0))
    also = tuple(one for one in services.all(subject(0)) if one[0] != name)
    return Answer(ways, name, category, sign, route, also)

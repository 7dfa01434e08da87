"""Explanations of a run with the plan beyond its figures: what limits a line, and who starves whom."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.lab.flows import Outcome
from wily_sluice.plan.model import Plan
from wily_sluice.plan.rates import resolve
from wily_sluice.units import MILLISECOND, Direction, Nanoseconds, Rate

FULL = 0.9  # of the usable rate: a line that carries as much is not held back
LATE: Nanoseconds = 100 * MILLISECOND  # an acknowledgement with this delay holds its sender back
LOST = 0.02  # or this part of them lost
MUCH_LOST, ALL = 0.1, 0.85  # of a transfer's packets; of a queue's guarantee, what data come to of it
STARVED = 0.1  # of what another one gets


@dataclass(frozen=True, slots=True)
class HeldBack:
    """A direction that carries less than it could, as acknowledgements are late or lost in a queue of the other."""

    uplink: str
    way: Direction
    queue: str


@dataclass(frozen=True, slots=True)
class Outranked:
    """A transfer that gets next to nothing while one in a queue that goes first gets a lot; rates in bit/s."""

    name: str
    way: str
    queue: str
    rate: float
    other: str
    other_queue: str
    other_rate: float


@dataclass(frozen=True, slots=True)
class Unreached:
    """A limiter that never decides for an application, since another one is tighter; rates in bit/s."""

    name: str
    way: str
    limiter: str
    rate: Rate
    tighter: str
    tighter_rate: Rate


@dataclass(frozen=True, slots=True)
class Crowded:
    """A transfer that loses much and gets less than its queue is guaranteed: its connections are too many for so low a
    rate, as not even two segments of each fit into the delay that the queue allows. Rates in bit/s, loss of 1.
    """

    name: str
    way: str
    queue: str
    rate: float
    guarantee: Rate
    loss: float


Note = HeldBack | Outranked | Unreached | Crowded


def notes(plan: Plan, rows: Sequence[Outcome], shares: dict[tuple[str, Direction], float]) -> Iterator[Note]:
    """Of the rows with the plan; `shares` are the parts of the usable rates that were carried."""
    transfers = [row for row in rows if row.kind in ("upload", "download")]
    for (uplink, way), share in shares.items():
        mine = [row for row in transfers if (row.uplink, row.way) == (uplink, way)]
        late = [row for row in mine if _holds_back(row)]
        if share < FULL and late:
            yield HeldBack(uplink, way, min(late, key=lambda row: row.measured.goodput).acks_queue)
    for name, way in shares:
        mine = [row for row in transfers if (row.uplink, row.way) == (name, way)]
        if mine:
            guarantees = {spec.path: spec.guarantee for spec in _root(plan, name, way).leaves()}
            crowded = list(_crowded(mine, guarantees))
            names = {note.name for note in crowded}
            yield from crowded
            yield from (note for note in _outranked(mine, _priorities(plan, name, way)) if note.name not in names)
    yield from _unreached(plan, rows)


def _holds_back(row: Outcome) -> bool:
    acks = row.measured.acks
    return acks is not None and (acks.delay is None or acks.delay > LATE or acks.loss > LOST)


def _root(plan: Plan, uplink: str, way: Direction) -> QueueSpec:
    return resolve(plan, next(each for each in plan.uplinks if each.name == uplink), way)


def _crowded(rows: Sequence[Outcome], guarantees: dict[str, Rate]) -> Iterator[Crowded]:
    for row in rows:
        guarantee, rate, loss = guarantees.get(row.queue, 0), row.measured.goodput, row.measured.loss
        alone = sum(other.queue == row.queue for other in rows) == 1
        if alone and loss > MUCH_LOST and rate < ALL * guarantee:
            yield Crowded(row.name, row.way, row.queue, rate, guarantee, loss)


def _priorities(plan: Plan, uplink: str, way: Direction) -> dict[str, tuple[int, ...]]:
    """The priorities from the root to each leaf."""
    places: dict[str, tuple[int, ...]] = {}
    root = _root(plan, uplink, way)
    parts: list[tuple[QueueSpec, tuple[int, ...]]] = [(child, ()) for child in root.children]
    while parts:
        spec, above = parts.pop()
        places[spec.path] = (*above, spec.priority)
        parts += [(child, places[spec.path]) for child in spec.children]
    return places


def _outranked(rows: Sequence[Outcome], priorities: dict[str, tuple[int, ...]]) -> Iterator[Outranked]:
    for row in rows:
        first = [
            other
            for other in rows
            if priorities.get(other.queue, ()) < priorities.get(row.queue, ())
            and row.measured.goodput < STARVED * other.measured.goodput
        ]
        if first:
            other = max(first, key=lambda row: row.measured.goodput)
            yield Outranked(
                row.name, row.way, row.queue, row.measured.goodput, other.name, other.queue, other.measured.goodput
            )


def _unreached(plan: Plan, rows: Sequence[Outcome]) -> Iterator[Unreached]:
    limiters = {limiter.name: limiter for limiter in plan.limiters}
    for row in rows:
        way: Direction = "down" if row.way == "down" else "up"
        tight = limiters[row.limiters[0]] if row.limiters else None
        least = tight.rate(way) if tight is not None and tight.per.whom in ("host", "address") else None
        for loose in (limiters[name] for name in row.limiters[1:]):
            rate = loose.rate(way)
            alone = loose.per.whom != "together" or (loose.hosts is not None and loose.hosts.is_one_host)
            if tight is not None and least is not None and rate is not None and least < rate and alone:
                yield Unreached(row.name, row.way, loose.name, rate, tight.name, least)

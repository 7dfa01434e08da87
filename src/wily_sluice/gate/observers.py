"""What the gate tells others: the interfaces of its observers, and the counters that changed since the last copy.

A `CounterRow` is for a queue, a limiter, or one host's conversations of one rule and service. Its counts are the
increase since the row before it; its backlog is the present one. Readers never hold the gate up.
"""

from collections.abc import Callable, Iterator
from datetime import datetime
from heapq import nlargest
from itertools import islice
from typing import Literal, NamedTuple, Protocol, TypeAlias
from zoneinfo import ZoneInfo

from wily_sluice.engine.site import SiteEngine
from wily_sluice.engine.tally import FlowTally, Tally
from wily_sluice.units import DIRECTIONS, Direction, Nanoseconds, Size

Kind: TypeAlias = Literal["queue", "limiter", "flow"]
FlowName: TypeAlias = tuple[bytes, str, str]  # host, rule, service

A_CHORE = 64  # rows that are copied in a turn


class CounterRow(NamedTuple):
    """`name` is a queue's path, a limiter's name, or host, rule and service; `uplink` is empty for a limiter.

    `framed` is the cost of a queue's packets on the line, `payload` the applications' bytes; `busy` is in ns; `waits`
    as in `engine.tally`, empty if no packet waited; `beyond` and `inside` are round trips.
    """

    kind: Kind
    uplink: str
    direction: Direction
    name: str | FlowName
    bytes: Size
    packets: int
    drops: int
    marks: int
    backlog: Size
    waiting: int
    busy: Nanoseconds
    waits: tuple[int, ...] = ()
    framed: Size = 0
    payload: Size = 0
    beyond: tuple[Nanoseconds, ...] = ()
    inside: tuple[Nanoseconds, ...] = ()


class Talk(NamedTuple):
    """The packets of one conversation in one direction, and where it is sorted."""

    uplink: str
    direction: Direction
    key: bytes
    bytes: Size
    packets: int
    queue: str
    rule: str
    service: str
    seen: str


MOST_TALKS = 200
MOST_FLOWS = 4096  # rows of hosts, rules and services in a direction of an uplink; more are added up into one


def copy_talks(engine: SiteEngine) -> list[Talk]:
    """The busiest conversations since the last call, where the shapers count them; and in each direction of an uplink
    all others, with an empty key.
    """
    talks: list[Talk] = []
    for (uplink, direction), shaper in engine.shapers.items():
        for conversation, (size, packets) in shaper.collect_conversations().items():
            flow_path = conversation.up_path if direction == "up" else conversation.down_path
            if flow_path is not None:
                seen = conversation.known.seen if conversation.known is not None else ""
                about = (flow_path.leaf.path, flow_path.tally.rule, flow_path.tally.service, seen)
                talks.append(Talk(uplink, direction, conversation.key, size, packets, *about))
    if len(talks) <= MOST_TALKS:
        return talks
    busiest = nlargest(MOST_TALKS, talks, key=lambda talk: talk.bytes)
    rows = {(talk.uplink, talk.direction, talk.key) for talk in busiest}
    others: dict[tuple[str, Direction], tuple[Size, int]] = {}
    for talk in talks:
        if (talk.uplink, talk.direction, talk.key) not in rows:
            size, packets = others.get((talk.uplink, talk.direction), (0, 0))
            others[talk.uplink, talk.direction] = size + talk.bytes, packets + talk.packets
    rest = [Talk(*way, b"", size, packets, "", "", "", "") for way, (size, packets) in others.items()]
    return busiest + rest


def copy_counters(engine: SiteEngine, now: Nanoseconds) -> Iterator[CounterRow]:
    """The changes since the last call. The engine can continue while this iterates."""
    yield from _queues(engine, now)
    yield from _limiters(engine, now)
    yield from _flows(engine, now)


def copying(rows: Iterator[CounterRow], watcher: "Watcher", lasted: Nanoseconds) -> Callable[[], bool]:
    """Tells a watcher some of the rows at each call, and in the end the time that they are about; then it is done."""

    def chore() -> bool:
        some = list(islice(rows, A_CHORE))
        if some:
            watcher.count(some)
        if len(some) == A_CHORE:
            return False
        watcher.tick(lasted)
        return True

    return chore


def _queues(engine: SiteEngine, now: Nanoseconds) -> Iterator[CounterRow]:
    for (uplink, direction), shaper in list(engine.shapers.items()):
        for leaf in list(shaper.tree.leaves):
            counts = _since(leaf.tally, now, leaf.sent_bytes, leaf.sent_payload)
            if counts is not None:
                yield _row("queue", uplink, direction, leaf.path, leaf.tally, counts)


def _limiters(engine: SiteEngine, now: Nanoseconds) -> Iterator[CounterRow]:
    for direction in DIRECTIONS:
        for limiter in engine.banks[direction].limiters:
            if limiter is not None:
                counts = _since(limiter.tally, now)
                if counts is not None:
                    yield _row("limiter", "", direction, limiter.spec.name, limiter.tally, counts)


def _flows(engine: SiteEngine, now: Nanoseconds) -> Iterator[CounterRow]:
    collected = [(way, shaper.collect()) for way, shaper in engine.shapers.items()]
    for (uplink, direction), tallies in collected:
        count, others = 0, Tally()
        for tally in tallies:
            counts = _since(tally, now)
            if counts is None:
                continue
            count += 1
            if count <= MOST_FLOWS:
                yield _row("flow", uplink, direction, (tally.host, tally.rule, tally.service), tally, counts)
            else:
                size, packets, drops, marks, busy, *_ = counts
                others.bytes += size
                others.packets += packets
                others.drops += drops
                others.marks += marks
                others.busy += busy
        if count > MOST_FLOWS:
            counts = (others.bytes, others.packets, others.drops, others.marks, others.busy)
            yield _row("flow", uplink, direction, (b"", "", ""), others, counts)


def _since(tally: Tally, now: Nanoseconds, *more: int) -> tuple[int, ...] | None:
    """The counts since the previous call; None if there are none."""
    counts = (tally.bytes, tally.packets, tally.drops, tally.marks, tally.busy_until(now), *more)
    before = tally.told or (0,) * len(counts)
    if counts == before and not tally.waiting:
        return None
    tally.told = counts
    return tuple(new - old for new, old in zip(counts, before, strict=True))


def _row(
    kind: Kind, uplink: str, direction: Direction, name: str | FlowName, tally: Tally, counts: tuple[int, ...]
) -> CounterRow:
    waits, tally.waits = tuple(tally.waits or ()), None
    size, packets, drops, marks, busy, *more = counts
    framed, payload = more or (0, 0)
    beyond: tuple[Nanoseconds, ...] = ()
    inside: tuple[Nanoseconds, ...] = ()
    if isinstance(tally, FlowTally):
        beyond, tally.beyond = tuple(tally.beyond or ()), None
        inside, tally.inside = tuple(tally.inside or ()), None
    return CounterRow(
        kind,
        uplink,
        direction,
        name,
        size,
        packets,
        drops,
        marks,
        tally.backlog,
        tally.waiting,
        busy,
        waits,
        framed,
        payload,
        beyond,
        inside,
    )


def time_in(zone: str) -> datetime:
    """The time that it is in a zone."""
    return datetime.now(ZoneInfo(zone))


class Keeper(Protocol):
    """Stores the use of quotas."""

    def used(self, limiter: str, period: str) -> dict[bytes, Size]:
        """The stored use of a period for each account of a limiter. May block. LiveError if it is unknown now."""

    def keep(self, limiter: str, period: str, news: dict[bytes, Size]) -> dict[bytes, Size]:
        """Keep that so much more was used; does not wait, and gives back what cannot be taken now."""

    def tick(self) -> None:
        """Its turn; does not wait."""


class Watcher(Protocol):
    """Receives events and counters, between two turns. Its methods never block."""

    def fileno(self) -> int:
        """For select: readable when it wants a turn."""

    def turn(self) -> None:
        """Its turn."""

    def ready(self) -> None:
        """The gate shapes from now on."""

    def count(self, rows: list[CounterRow]) -> None:
        """Some of the counters since the last tick."""

    def tick(self, lasted: Nanoseconds) -> None:
        """The end of a tick. The gate's `state` and `visits` can be read too."""

    def told(self, interface: str, here: bool) -> None:
        """An interface of an uplink has gone, or is back."""

    def happened(self, event: str, level: str, **about: str | int | float | bool) -> None:
        """Something for the log."""


class GateState(NamedTuple):
    """See `control.messages.Health`."""

    unreadable: int
    bypassed: int
    crowd: int
    unrecognised: int
    late_turns: int
    refused: int
    shed: int
    longest_turn: Nanoseconds
    busy: float
    unseen: dict[str, int]
    crossed: dict[str, dict[str, tuple[Size, Size]]]
    down: list[str]
    carried: dict[str, int]
    found: dict[str, dict[str, int]]
    why: dict[str, str]

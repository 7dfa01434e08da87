"""The world of tests in simulated time."""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from functools import cache
from heapq import heapify, heapreplace
from zoneinfo import ZoneInfo

from wily_sluice.engine.classify.condition import LONGEST_PACKET
from wily_sluice.engine.classify.header import UDP, Parties, parse
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.limit.limiter import bucket_of
from wily_sluice.engine.packet import Framing, Packet
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.shaper import Shaper
from wily_sluice.forecast.prove.example import LOCAL_PORT, Example, first_host, remote_for
from wily_sluice.forecast.prove.proof import FULL, RULES, Came, CannotTry, Flood, Led, Opened, Part, Stream, Where
from wily_sluice.plan.build import build_site
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.lines import line_of, refusing
from wily_sluice.plan.model import Directional, Plan, Queue, Rule, Tree, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.plan.schedules.schedule import telling_days
from wily_sluice.plan.terms import Terms
from wily_sluice.ports.mapping_table import Book, PortMapping, Sender, Wish
from wily_sluice.units import BYTE_TIME, DIRECTIONS, MILLISECOND, Direction, Nanoseconds, Rate, Size

WARMUP = 0.25  # of the whole time, in which nothing is counted
FLOOD_STEP: Nanoseconds = 10_000  # if a shaper has nothing to release although its time has come
PERCENTILE = 95


def flood(
    shaper: Shaper, way: Direction, framing: Framing, streams: Sequence[Stream], lasts: Nanoseconds, spent: bool = False
) -> tuple[Came, ...]:
    """Send all streams for a time. Queues start empty; quotas are used up if `spent`."""
    conversations: list[Conversation] = []
    for stream in streams:
        conversation = stream.example.conversation()
        flow_path = shaper.flow_path_for(conversation, stream.example.subject(conversation))
        if way == "up":
            conversation.up_path = flow_path
        else:
            conversation.down_path = flow_path
        for bucket in (bucket_of(flow_path, stage) for stage in range(len(flow_path.buckets))):
            if spent and bucket.account is not None:
                bucket.account.used = bucket.limiter.spec.quota or 0
        conversations.append(conversation)
    index_of = {id(conversation): number for number, conversation in enumerate(conversations)}
    carried: list[Size] = [0] * len(streams)
    waits: list[list[Nanoseconds]] = [[] for _ in streams]
    begin = round(lasts * WARMUP)
    sizes = [framing.cost(stream.length) for stream in streams]
    gaps = [max(1, size * BYTE_TIME // stream.rate) for size, stream in zip(sizes, streams, strict=True)]
    due = [(gap * number // len(streams), number) for number, gap in enumerate(gaps)]
    heapify(due)
    now: Nanoseconds = 0
    while now < lasts:
        free = shaper.next_release(now)
        if free is not None and free <= due[0][0]:
            now = max(now, free)
            packet = shaper.release(now)
            if packet is None:
                now = min(now + FLOOD_STEP, max(now, due[0][0]))
                if now == due[0][0]:
                    now = _offer(shaper, streams, conversations, sizes, gaps, due)
            elif now >= begin:
                number = index_of[id(packet.conversation)]
                carried[number] += packet.size
                waits[number].append(now - packet.arrived)
        else:
            now = _offer(shaper, streams, conversations, sizes, gaps, due)
    counted = lasts - begin
    return tuple(
        Came(size * BYTE_TIME / counted, percentile(waited, PERCENTILE), max(waited, default=0))
        for size, waited in zip(carried, waits, strict=True)
    )


def percentile(waits: Sequence[Nanoseconds], percent: int) -> Nanoseconds:
    """The wait that this percentage does not exceed; 0 without any."""
    return sorted(waits)[(len(waits) - 1) * percent // 100] if waits else 0


def _offer(
    shaper: Shaper,
    streams: Sequence[Stream],
    conversations: Sequence[Conversation],
    sizes: Sequence[Size],
    gaps: Sequence[Nanoseconds],
    due: list[tuple[Nanoseconds, int]],
) -> Nanoseconds:
    """Offer the next packet; returns when the one after it is due."""
    now, number = due[0]
    stream = streams[number]
    length = min(stream.length, stream.example.length) if stream.example.length < LONGEST_PACKET else stream.length
    packet = Packet(sizes[number], conversations[number], length=length, kind=stream.example.kind)
    shaper.offer(packet, now)
    heapreplace(due, (now + gaps[number], number))
    return now


def time_for(rate: Rate, packets: int = 5_000, least: Nanoseconds = 400 * MILLISECOND) -> Nanoseconds:
    """How long to flood a line of this rate, so that about so many packets come through it."""
    return max(least, packets * FULL * BYTE_TIME // rate)


MOST_CHANGES = 3  # of a schedule, until it has opened and closed
OUTSIDE = bytes((192, 0, 2, 1))  # an address for documentation (RFC 5737)
SECOND_LONG = timedelta(seconds=1)
FLOOD = 1.1  # times the line, of each stream
FIRST_STEERED = 41_000  # the remote port that leads to the first leaf when leaves are tried
NOTHING: Directional[object] = Directional(None, None)


def _drop(_: Packet) -> None:
    """A flood has no senders to tell."""


class Bench:
    """The lab for one plan."""

    slack: Nanoseconds = 0

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.uplinks = {uplink.name: uplink for uplink in plan.uplinks}
        self._known: dict[Flood, tuple[Came, ...]] = {}
        self.moments = cache(self._moments)
        self.full = cache(self._full)
        self._sorter = cache(self._sorter_of)

    def ways(self) -> Iterator[tuple[Uplink, Direction]]:
        """Every direction of every uplink."""
        for uplink in self.plan.uplinks:
            for way in DIRECTIONS:
                yield uplink, way

    def spec(self, uplink: Uplink, way: Direction) -> QueueSpec:
        """The tree with every figure resolved."""
        return resolve(self.plan, uplink, way)

    def shaper(self, asked: Flood | Where, way: Direction = "up", plan: Plan | None = None) -> Shaper:
        """A fresh shaper with the requested part of the plan, or of another plan."""
        part = asked.part if isinstance(asked, Flood) else RULES
        engine = build_site(plan or part_of(self.plan, part), _drop)
        if asked.moment is not None:
            engine.at(asked.moment)
        return engine.shapers[asked.uplink, way]

    def _sorter_of(self, uplink: str, moment: datetime | None) -> Shaper:
        """A shaper that only sorts, and so can be asked again and again."""
        return self.shaper(Where(uplink, Example(Parties(UDP, b"", b"", 0, 0)), moment))

    def flood(self, asked: Flood, plan: Plan | None = None) -> tuple[Came, ...]:
        """The result of streams; by another plan as a whole, if given."""
        if plan is not None:
            return self._flood(asked, plan)
        if asked not in self._known:
            self._known[asked] = self._flood(asked, None)
        return self._known[asked]

    def _flood(self, asked: Flood, plan: Plan | None) -> tuple[Came, ...]:
        uplink = self.uplinks[asked.uplink]
        return flood(
            self.shaper(asked, asked.way, plan),
            asked.way,
            uplink.framing,
            asked.streams,
            self.lasts(asked),
            asked.spent,
        )

    def lasts(self, asked: Flood) -> Nanoseconds:
        """How long a flood lasts."""
        whole = sum(stream.rate for stream in asked.streams)
        return max(asked.least, time_for(min(whole, self.uplinks[asked.uplink].usable(asked.way))))

    def where(self, asked: Where, plan: Plan | None = None) -> str:
        """The path of a conversation's leaf, with its packets examined; optionally by another plan."""
        example = asked.example
        up, down = parse(example.header(True), True), parse(example.header(False), False)
        if up is None or down is None or up.key != down.key:
            return ""
        conversation = Conversation(up.key)
        conversation.known, conversation.dscps = example.known, example.dscps
        sorter = self.shaper(asked, "up", plan) if plan is not None else self._sorter(asked.uplink, asked.moment)
        flow_path = sorter.flow_path_for(conversation, example.subject(conversation))
        return str(flow_path.leaf.path)

    def lines(self, asked: Led, plan: Plan | None = None) -> tuple[str, ...]:
        """The uplink of each conversation, in order of opening; optionally by another plan."""
        plan = plan or self.plan
        engine = build_site(plan, _drop)
        if asked.moment is not None:
            engine.at(asked.moment)
        carriers = {tunnel.name: tunnel.uplink for tunnel in plan.tunnels}
        engine.router.down = frozenset(
            index for index, line in enumerate(plan.lines) if carriers.get(line.name, line.name) in asked.down
        )
        shares = []
        for number in range(asked.many):
            line = line_of(plan, engine, asked.example.nth(number).conversation())
            shares.append(line.name if line is not None else "")
        return tuple(shares)

    def opened(self, asked: Opened) -> bool:
        """Whether the table of mappings grants a port to a host."""
        book = Book(lambda _: OUTSIDE, set)
        book.follow(self.plan.granting)
        sender = Sender(asked.local, asked.hardware)
        grants = [grant for grant in self.plan.granting if asked.protocol in grant.ports]
        ports = [p for g in grants for a, b in g.ports[asked.protocol] for p in range(a, b + 1) if p != asked.inside]
        for port in ports[: asked.earlier]:
            book.ask(Wish(sender, asked.protocol, port, 600, "PCP"), 0)
        wish = Wish(sender, asked.protocol, asked.inside, 600, "PCP")
        return isinstance(book.ask(wish, 0), PortMapping)

    def route_of(self, example: Example, moment: datetime | None) -> tuple[int, set[str]]:
        """The index in the file of the first route that an example meets, -1 for none; and the lines that refuse it."""
        engine = build_site(self.plan, _drop)
        if moment is not None:
            engine.at(moment)
        conversation = example.conversation()
        subject = example.subject(conversation)
        refused = {self.plan.lines[line].name for line in refusing(self.plan, engine, conversation)}
        met = zip(self.plan.routing, engine.router.routes, strict=True)
        return next((route.index for route, compiled in met if compiled.condition.holds(subject)), -1), refused

    def _moments(self, when: str) -> tuple[tuple[datetime, ...], tuple[datetime, ...]]:
        """The first and the last second of an open schedule, and the closed seconds right before and after. Empty if it
        never opens; a single one each if it never closes.
        """
        zone, schedule = ZoneInfo(self.plan.timezone), self.plan.schedules[when]
        begin = telling_days([schedule])[0]
        moment: datetime | None = datetime(begin.year, begin.month, begin.day, tzinfo=zone)
        opens = None
        for _ in range(MOST_CHANGES):
            moment = schedule.next_change(moment) if moment is not None else None
            if moment is None:
                break
            if schedule.holds(moment):
                opens = moment
            elif opens is not None:
                return (opens, moment - SECOND_LONG), (opens - SECOND_LONG, moment)
        if opens is not None:
            return (opens,), (opens - SECOND_LONG,)
        return (), ()

    def within(self, when: str | None) -> datetime | None:
        """A time well inside an open window of a schedule; None if there is none."""
        held = self.moments(when)[0] if when is not None else ()
        return held[0] + (held[-1] - held[0]) / 2 if held else None

    def _full(self, uplink: Uplink, way: Direction) -> dict[str, Stream]:
        """A flood for each leaf, of more than the line carries, in the plan made by `steered`."""
        local = first_host(self.plan)
        if local is None:
            raise CannotTry("the plan has no network with hosts")
        tree, rate = self.plan.tree(uplink, way), round(uplink.usable(way) * FLOOD)
        return {
            leaf.path: Stream(
                Example(Parties(UDP, local, remote_for(self.plan, len(local)), LOCAL_PORT, port)),
                rate,
            )
            for leaf, port in zip(tree.leaves, _steering(self.plan)[tree.name], strict=False)
        }


def _steering(plan: Plan) -> dict[str, range]:
    """The remote ports for the leaves of each tree."""
    rules, port = {}, FIRST_STEERED
    for tree in plan.trees.values():
        rules[tree.name] = range(port, port + len(tree.leaves))
        port += len(tree.leaves)
    return rules


def steered(plan: Plan) -> Plan:
    """The plan with one rule for each leaf instead of its own, and without limiters: for tests of the trees alone."""
    ports = _steering(plan)
    rules = tuple(
        Rule(f"to {leaf.path}", 0, Terms({"remote-port": ((port, port),)}), {tree.name: leaf.path})
        for tree in plan.trees.values()
        for leaf, port in zip(tree.leaves, ports[tree.name], strict=True)
    )
    return replace(without_limiters(plan), rules=rules)


def part_of(plan: Plan, part: Part) -> Plan:
    """The plan with only this part active."""
    if part.kind == "trees":
        return steered(plan)
    return with_limiter(plan, part.name) if part.kind == "limiter" else without_limiters(plan)


def without_limiters(plan: Plan) -> Plan:
    """The plan with all its limiters switched off."""
    return replace(plan, limiters=tuple(replace(limiter, enabled=False) for limiter in plan.limiters))


def with_limiter(plan: Plan, name: str) -> Plan:
    """The plan with this limiter only."""
    return replace(
        plan,
        limiters=tuple(replace(limiter, enabled=limiter.enabled and limiter.name == name) for limiter in plan.limiters),
    )


def with_queue(plan: Plan, tree: Tree, path: str, below: bool = False, **changes: object) -> Plan:
    """The plan with a queue of a tree changed, and with `below` all queues under it."""

    def changed(queues: tuple[Queue, ...]) -> tuple[Queue, ...]:
        return tuple(
            replace(
                queue,
                children=changed(queue.children),
                **(changes if queue.path == path or (below and queue.path.startswith(f"{path}/")) else {}),  # type: ignore[arg-type]  # by name
            )
            for queue in queues
        )

    other = replace(tree, queues=changed(tree.queues))
    return replace(plan, trees={**plan.trees, tree.name: other})


def queue_location(tree: Tree, path: str, key: str) -> Location:
    """The place of a key of a queue in the file."""
    return ("trees", tree.name, *(part for name in path.split("/") for part in ("queues", name)), key)

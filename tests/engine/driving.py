"""Drives the engine by hand, in simulated time: leaves that always have packets, and a record of what came out."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from wily_sluice.engine.classify.classifier import ANYONE, Classifier, Rule
from wily_sluice.engine.classify.condition import Condition, PortIs
from wily_sluice.engine.classify.header import UDP, Parties, key_of
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.limit.limiter import Limiter
from wily_sluice.engine.limit.limiter_bank import LimiterBank
from wily_sluice.engine.packet import NOT_ECT, Packet
from wily_sluice.engine.queueing.flow_path import FlowPath
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.shaper import Shaper, forward_to_tree
from wily_sluice.engine.tally import FlowTally
from wily_sluice.plan.build import build_tree
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Rate, transmission_time

REMOTE = bytes([198, 51, 100, 1])


def conversation(port: int, host: int = 1) -> Conversation:
    """A conversation of host 10.0.0.`host`, told apart by its remote port."""
    return Conversation(key_of(Parties(UDP, bytes([10, 0, host >> 8, host & 255]), REMOTE, 4000, port)))


def packet(size: int, who: Conversation, token: object = None, ecn: int = NOT_ECT) -> Packet:
    """A packet for a leaf queue by itself, its flow path set as a shaper would."""
    if who.up_path is None:
        who.up_path = FlowPath(ANYWHERE, (), ANYWHERE.tree.leaves[0], FlowTally(b"", -1, "", ""))
    one = Packet(size, who, token, ecn)
    one.flow_path = who.up_path
    return one


@dataclass
class Bench:
    """A shaper whose leaf number n takes conversations with remote port n + 1."""

    spec: QueueSpec
    limiters: Sequence[Limiter] = ()
    whom: Condition = ANYONE  # the limiters name
    now: Nanoseconds = 0
    sent: list[tuple[Nanoseconds, Packet]] = field(default_factory=list)
    dropped: list[Packet] = field(default_factory=list)

    def __post_init__(self) -> None:
        bank = LimiterBank(tuple(self.limiters), forward_to_tree, self.dropped.append)
        leaves = list(self.spec.leaves())
        rules = tuple(Rule(PortIs(((index + 1, index + 1),)), index) for index in range(len(leaves)))
        classifier = Classifier(rules, 0, tuple(self.whom for _ in self.limiters))
        self.shaper = Shaper("up", build_tree(self.spec, self.dropped.append), classifier, bank)

    def offer(self, who: Conversation, size: int, token: object = None) -> None:
        self.shaper.offer(Packet(size, who, token), self.now)

    def run(self, until: Nanoseconds, refill: Callable[[], object] = lambda: None) -> None:
        """Release what is due until then; `refill` is called after every packet, and every 10 ms."""
        refill()
        while self.now < until:
            due = self.shaper.next_release(self.now)
            soon = min(until, self.now + 10 * MILLISECOND)
            if due is None or due >= soon:
                self.now = soon
                refill()
            elif due > self.now:
                self.now = due
            elif (packet := self.shaper.release(self.now)) is not None:
                self.sent.append((self.now, packet))
                refill()

    def keep_full(self, conversations: Iterable[Conversation], size: int, deep: int = 12) -> Callable[[], None]:
        """A refill that keeps `deep` packets in the leaf of each of these conversations, one a leaf."""
        leaf_of = {who: self.shaper.tree.leaves[who.parties.remote_port - 1] for who in conversations}

        def refill() -> None:
            for who, leaf in leaf_of.items():
                while leaf.length < deep:
                    self.offer(who, size)

        return refill

    def feed(self, demands: Mapping[str, Rate], size: int) -> Callable[[], None]:
        """A refill under which leaves with a demand get packets at that rate, and those without are hungry."""
        hungry, paced = [], []
        for index, leaf in enumerate(self.shaper.tree.leaves):
            who, demand = conversation(index + 1), demands.get(leaf.path)
            if demand is None:
                hungry.append(who)
            elif demand:
                paced.append([0, transmission_time(size, demand), who, leaf])
        fill = self.keep_full(hungry, size)

        def refill() -> None:
            fill()
            for one in paced:
                due, gap, who, leaf = one
                while due <= self.now:
                    if leaf.length < 50:
                        self.offer(who, size)
                    due += gap
                one[0] = due

        return refill

    def rates(self, seconds: float) -> dict[str, float]:
        """Bit/s that each leaf sent."""
        return {leaf.path: leaf.sent_bytes * 8 / seconds for leaf in self.shaper.tree.leaves}


def flood(spec: QueueSpec, seconds: int = 10, size: int = 300, idle: Iterable[str] = ()) -> Bench:
    """Let every leaf but the idle ones be hungry for a while."""
    bench = Bench(spec)
    hungry = [conversation(index + 1) for index, leaf in enumerate(spec.leaves()) if leaf.path not in set(idle)]
    bench.run(seconds * SECOND, bench.keep_full(hungry, size))
    return bench


ANYWHERE = Bench(QueueSpec("", 1, 1, children=(QueueSpec("only", 0, 1),))).shaper

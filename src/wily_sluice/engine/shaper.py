"""The shaper of one uplink in one direction: limiters, then the tree, then the line's pace.

The caller passes packets to `offer` and takes them from `release`; `next_release` is the next time worth asking. A
packet that will not be sent is passed to `drop`, which must not call back into the shaper.

The pace is a virtual clock at the usable rate. While there is a backlog it ignores real time, so a caller that wakes
late catches up and the rate holds. After an idle period it restarts at now, so that nothing is saved up.
"""

from typing import Final, cast

from wily_sluice.engine.classify.classifier import Classifier
from wily_sluice.engine.classify.condition import LONGEST_PACKET, Subject
from wily_sluice.engine.classify.header import UNREADABLE
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.conversations.watch import Watch
from wily_sluice.engine.limit.limiter import Bucket
from wily_sluice.engine.limit.limiter_bank import LimiterBank
from wily_sluice.engine.limit.meters import Utilisation
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.flow_path import STALE, FlowPath, Onward
from wily_sluice.engine.queueing.node import Leaf
from wily_sluice.engine.queueing.service_curve import at_rate, sending_time
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.queueing.tree import Tree
from wily_sluice.engine.tally import ETHERNET_HEADER, FlowTally
from wily_sluice.units import MILLISECOND, Direction, Nanoseconds, Size

CATCH_UP: Final[Nanoseconds] = 20 * MILLISECOND  # how much of a stall is made good afterwards
MOST_TALLIES: Final = 16_384
MOST_EXCESSES: Final = 256


class Shaper(Onward):
    """Shapes one direction of one uplink. `rate` is the usable rate in bit/s.

    `others` are the limiters, by index in the bank, that belong to other uplinks only. A change in sorting adds 1 to
    `epoch`, and every conversation is then sorted again at its next packet. `touched` are the tallies that may have
    changed since the last collection.
    """

    def __init__(
        self,
        direction: Direction,
        tree: Tree,
        classifier: Classifier,
        bank: LimiterBank,
        others: frozenset[int] = frozenset(),
    ) -> None:
        self.direction = direction
        self.tree = tree
        self.rate = tree.root.limit
        self._up = direction == "up"
        self.classifier = classifier
        self.bank = bank
        self._others = others
        self._utilisation: Utilisation | None = None
        self.excesses: list[Nanoseconds] | None = None  # what `passed` was told, where somebody wants to know
        self.epoch = 0
        self._clock: Nanoseconds = 0
        self._tallies: dict[tuple[bytes, int, str], FlowTally] = {}
        self.touched: list[FlowTally] = []
        self._conversations: dict[Conversation, tuple[Size, int]] | None = None
        self._uprooted: dict[FlowPath, list[Packet]] = {}  # during a change: packets from queues that were removed

    def offer(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in."""
        flow_path = self.flow_path(packet.conversation, packet.kind, packet.length - packet.wrapped, now)
        packet.flow_path = flow_path
        tally = packet.tally = flow_path.tally
        packet.arrived = now
        tally.enter(packet.length, now)
        if not tally.touched:
            tally.touched = True
            self.touched.append(tally)
        if self._conversations is not None:
            size, packets = self._conversations.get(packet.conversation, (0, 0))
            self._conversations[packet.conversation] = (size + packet.length + ETHERNET_HEADER, packets + 1)
        if self.classifier.writes_dscp and tally.index >= 0:
            packet.dscp = self.classifier.rules[tally.index].dscp
        if flow_path.buckets:
            packet.stage = 0
            self.bank.offer(packet, now)
        else:
            self.enter_tree(packet, now)

    def flow_path(self, conversation: Conversation, kind: int, length: Size, now: Nanoseconds) -> FlowPath:
        """The path of a conversation's packet: computed now if it is new or something has changed."""
        watch = conversation.watch
        if watch is not None and watch.saw(self._up, length, now):
            conversation.sort_again()
        return self._way(conversation, kind, length, now)

    def _way(self, conversation: Conversation, kind: int, length: Size, now: Nanoseconds) -> FlowPath:
        flow_path = conversation.up_path if self._up else conversation.down_path
        if flow_path is None or flow_path.shaper is not self or flow_path.epoch != self.epoch:
            flow_path = self._choose_lane(conversation, flow_path, 0, LONGEST_PACKET, now)
            if self._up:
                conversation.up_path = flow_path
            else:
                conversation.down_path = flow_path
        if self.classifier.kinds or self.classifier.lengths:
            apart = self.classifier.apart(kind, length)
            if apart:
                flow_path = self._path_of_kind(conversation, flow_path, apart, length, now)
        return flow_path

    def leaf_of(self, conversation: Conversation, kind: int = 0, length: Size = LONGEST_PACKET) -> Leaf:
        """The leaf that a conversation's packets of this kind and length are sorted to."""
        return self._leaf(self.classifier.rule(self.classifier.subject(conversation, kind, length)))

    def _leaf(self, rule: int) -> Leaf:
        return self.tree.leaves[self.classifier.rules[rule].leaf if rule >= 0 else self.classifier.default]

    def passed(self, excess: Nanoseconds) -> None:
        """Take note of how much longer a round trip beyond the line took than the shortest of its conversation."""
        if self.excesses is not None and len(self.excesses) < MOST_EXCESSES:
            self.excesses.append(excess)

    def watch_utilisation(self) -> Utilisation:
        """Start measuring how busy the line is."""
        if self._utilisation is None:
            self._utilisation = Utilisation(self.rate)
        return self._utilisation

    def _path_of_kind(
        self, conversation: Conversation, flow_path: FlowPath, apart: int, length: Size, now: Nanoseconds
    ) -> FlowPath:
        """The flow path of a kind of packet that rules distinguish; kept with the paths of the other packets."""
        if flow_path.kinds is None:
            flow_path.kinds = {}
        chosen = flow_path.kinds.get(apart)
        if chosen is None or chosen.epoch != self.epoch:
            kinds = apart & self.classifier.kinds
            chosen = flow_path.kinds[apart] = self._choose_lane(conversation, chosen, kinds, length, now)
        return chosen

    def flow_path_for(self, conversation: Conversation, subject: Subject) -> FlowPath:
        """The path for a conversation in the state of `subject`; not stored. UNREADABLE uses the default."""
        buckets: list[Bucket] = []
        if conversation.key == UNREADABLE:
            return FlowPath(self, (), self._leaf(-1), self._tally(b"", -1, ""), self.epoch)
        for index in self.classifier.limits(subject):
            limiter = self.bank.limiters[index]
            if limiter is not None and limiter.active and index not in self._others:
                buckets.append(limiter.bucket(conversation, subject.host))
        rule = self.classifier.rule(subject)
        tally = self._tally(subject.host, rule, self.classifier.service(subject))
        return FlowPath(self, tuple(buckets), self._leaf(rule), tally, self.epoch)

    def _tally(self, host: bytes, rule: int, service: str) -> FlowTally:
        key = (host, rule, service)
        tally = self._tallies.get(key)
        if tally is None:
            if len(self._tallies) >= MOST_TALLIES:
                self._tallies = {}  # flow paths keep theirs; what is counted twice over is added up by its names
            tally = FlowTally(host, rule, self.classifier.rules[rule].name if rule >= 0 else "", service)
            self._tallies[key] = tally
        return tally

    def count_conversations(self, on: bool) -> None:
        """Start or stop counting the bytes of each conversation."""
        if on != (self._conversations is not None):
            self._conversations = {} if on else None

    def collect_conversations(self) -> dict[Conversation, tuple[Size, int]]:
        """Bytes and packets of each conversation since the last call, if they are counted."""
        table = self._conversations
        if table is None:
            return {}
        self._conversations = {}
        return table

    def collect(self) -> list[FlowTally]:
        """The tallies that may have changed since the last call."""
        touched = self.touched
        self.touched = [tally for tally in touched if tally.waiting]
        for tally in touched:
            tally.touched = tally.waiting > 0
        return touched

    def _choose_lane(
        self, conversation: Conversation, flow_path: FlowPath | None, kind: int, length: Size, now: Nanoseconds
    ) -> FlowPath:
        """Sort a conversation. Its queued packets move along, so that none is overtaken."""
        if conversation.watch is not None or self.classifier.watch:
            self._watch(conversation)
        chosen = self.flow_path_for(conversation, self.classifier.subject(conversation, kind, length))
        if flow_path is None or flow_path.shaper is not self:
            return chosen
        if flow_path.leaf is not chosen.leaf or flow_path.buckets != chosen.buckets:
            self._redirect(flow_path, chosen, now)
        flow_path.tally = chosen.tally
        flow_path.epoch = self.epoch
        if flow_path.kinds is not None:
            for other in flow_path.kinds.values():
                other.epoch = STALE
        return flow_path

    def _watch(self, conversation: Conversation) -> None:
        """Observe a conversation for the present rules."""
        watch, spec = conversation.watch, self.classifier.watch
        if watch is None:
            conversation.watch = Watch(spec)
        elif watch.spec is not spec:
            conversation.watch = watch.reconfigure(spec)

    def _redirect(self, flow_path: FlowPath, chosen: FlowPath, now: Nanoseconds) -> None:
        """Give a flow path another path, and move its queued packets: first those that are furthest ahead."""
        passed: list[Packet] = []
        if flow_path.leaf is not chosen.leaf:
            uprooted = self._uprooted.pop(flow_path, None)
            passed = uprooted if uprooted is not None else self.tree.withdraw(flow_path, now)
            flow_path.flow = None
        buckets = flow_path.buckets
        held: list[list[Packet]] = []
        if flow_path.held is not None:
            held = [self.bank.withdraw(flow_path, stage, now) for stage in range(len(buckets))]
        flow_path.leaf, flow_path.buckets, flow_path.held = chosen.leaf, chosen.buckets, None
        for packet in passed:
            packet.stage = len(flow_path.buckets)
            self.enter_tree(packet, now)
        for stage in range(len(held) - 1, -1, -1):
            already = 0  # the limiters in front that these have passed before
            while already < len(flow_path.buckets) and flow_path.buckets[already] in buckets[:stage]:
                already += 1
            for packet in held[stage]:
                packet.stage = already
                self.bank.offer(packet, now)

    def reconfigure(self, other: "Shaper", spec: QueueSpec, now: Nanoseconds) -> None:
        """Go on as `other`, a new one with a tree of this `spec`, would. Conversations are sorted again.

        Packets in a queue that was removed move to the queue that their conversation is classified to now.
        """
        self._clock = at_rate(self._clock, now, self.rate, other.rate)
        self.rate = other.rate
        self.classifier = other.classifier
        self._others = other._others
        if self._utilisation is not None:
            self._utilisation.rate = other.rate
        self._tallies = {}
        self.epoch += 1
        packets = self.tree.reshape(other.tree, spec, now)
        other.tree.dissolve()
        self.readmit(packets, now)

    def retune(self, spec: QueueSpec, now: Nanoseconds) -> None:
        """Go on at other rates, by `spec`, which differs from before in nothing else."""
        rate = spec.cap
        self._clock = at_rate(self._clock, now, self.rate, rate)
        self.rate = rate
        if self._utilisation is not None:
            self._utilisation.rate = rate
        self.tree.retune(spec, now)

    def readmit(self, packets: list[Packet], now: Nanoseconds) -> None:
        """Take packets that are past their limiters to where their conversations are now sorted to."""
        for packet in packets:
            assert packet.flow_path is not None
            self._uprooted.setdefault(packet.flow_path, []).append(packet)
        for packet in packets:
            assert packet.flow_path is not None
            if packet.flow_path not in self._uprooted:
                continue
            way = self._way(packet.conversation, packet.kind, packet.length, now)
            for queued in self._uprooted.pop(packet.flow_path, []):  # a flow path that its conversation no longer has
                queued.flow_path = way
                queued.stage = len(way.buckets)
                self.enter_tree(queued, now)

    def enter_tree(self, packet: Packet, now: Nanoseconds) -> None:
        """Take in a packet that is past its limiters."""
        if self._clock < now and not self.tree.active:
            self._clock = now
        if self._utilisation is not None:
            self._utilisation.came(packet.size, now)
        self.tree.enqueue(packet, now)

    @property
    def free_at(self) -> Nanoseconds:
        """No packet is released earlier than this."""
        return self._clock

    def release(self, now: Nanoseconds) -> Packet | None:
        """The packet to send now, if there is one."""
        if self.bank.waiting:
            self.bank.advance(now)
        if self._clock > now:
            return None
        if not self.tree.active:
            self._clock = now
        self.tree.open_caps(now)
        packet = self.tree.dequeue(now)
        if packet is None:
            return None
        if packet.tally is not None:
            packet.tally.leave(packet.length, packet.marked, now, now - packet.arrived)
        if packet.flow_path is not None:
            for bucket in packet.flow_path.buckets:
                cast(Bucket, bucket).count(packet.length)
        behind = now - CATCH_UP
        self._clock = (self._clock if self._clock > behind else behind) + sending_time(packet.size, self.rate)
        return packet

    def next_release(self, now: Nanoseconds) -> Nanoseconds | None:
        """When `release` may next have a packet, if none is offered before; None when nothing stands here.

        Never before `now`. It may be early: a packet that CoDel drops is seen only when its turn comes.
        """
        if self.tree.active:
            due: Nanoseconds | None = self._clock
        else:
            due = self.tree.next_opening()
            if due is not None and due < self._clock:
                due = self._clock
        if self.bank.waiting:
            passing = self.bank.waiting[0][0]
            if due is None or passing < due:
                due = passing
        return now if due is not None and due < now else due


def forward_to_tree(packet: Packet, now: Nanoseconds) -> None:
    """Hand a packet that is past its limiters to the tree of the uplink that it is on."""
    flow_path = packet.flow_path
    assert flow_path is not None
    leaf = flow_path.leaf
    assert isinstance(leaf, Leaf)
    if leaf.parent is None:  # no leaf of the tree any more
        flow_path.shaper.readmit([packet], now)
    else:
        flow_path.shaper.enter_tree(packet, now)

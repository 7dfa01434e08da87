"""The shaper of one uplink in one direction: limiters, then the tree, then the line's pace.

The caller passes packets to `offer` and takes them from `release`; `next_release` is the next time worth asking. A
packet that will not be sent is passed to `drop`, which must not call back into the shaper.

The pace is a virtual clock at the usable rate. While there is a backlog it ignores real time, so a caller that wakes
late catches up and the rate holds. After an idle period it restarts at now, so that nothing is saved up.
"""

from typing import Final

from wily_sluice.engine.classify.classifier import Classifier
from wily_sluice.engine.classify.condition import LONGEST_PACKET, Subject
from wily_sluice.engine.classify.header import UNREADABLE
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.conversations.watch import Watch
from wily_sluice.engine.limit.limiter import Bucket
from wily_sluice.engine.limit.limiter_bank import LimiterBank
from wily_sluice.engine.limit.utilisation import Utilisation
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.discipline import Onward
from wily_sluice.engine.queueing.lane import STALE, Lane
from wily_sluice.engine.queueing.node import Leaf
from wily_sluice.engine.queueing.pace import at_rate, sending_time
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
        self._uprooted: dict[Lane, list[Packet]] = {}  # during a change: packets from queues that were removed

    def offer(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in."""
        lane = self.lane(packet.conversation, packet.kind, packet.length - packet.wrapped, now)
        packet.lane = lane
        tally = packet.tally = lane.tally
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
        if lane.buckets:
            packet.stage = 0
            self.bank.offer(packet, now)
        else:
            self.enter_tree(packet, now)

    def lane(self, conversation: Conversation, kind: int, length: Size, now: Nanoseconds) -> Lane:
        """The path of a conversation's packet: computed now if it is new or something has changed."""
        watch = conversation.watch
        if watch is not None and watch.saw(self._up, length, now):
            conversation.sort_again()
        return self._way(conversation, kind, length, now)

    def _way(self, conversation: Conversation, kind: int, length: Size, now: Nanoseconds) -> Lane:
        lane = conversation.up_lane if self._up else conversation.down_lane
        if lane is None or lane.shaper is not self or lane.epoch != self.epoch:
            lane = self._choose_lane(conversation, lane, 0, LONGEST_PACKET, now)
            if self._up:
                conversation.up_lane = lane
            else:
                conversation.down_lane = lane
        if self.classifier.kinds or self.classifier.lengths:
            apart = self.classifier.apart(kind, length)
            if apart:
                lane = self._lane_apart(conversation, lane, apart, length, now)
        return lane

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

    def _lane_apart(self, conversation: Conversation, lane: Lane, apart: int, length: Size, now: Nanoseconds) -> Lane:
        """The lane of a kind of packet that rules distinguish; kept with those of the conversation's other packets."""
        if lane.kinds is None:
            lane.kinds = {}
        chosen = lane.kinds.get(apart)
        if chosen is None or chosen.epoch != self.epoch:
            kinds = apart & self.classifier.kinds
            chosen = lane.kinds[apart] = self._choose_lane(conversation, chosen, kinds, length, now)
        return chosen

    def lane_for(self, conversation: Conversation, subject: Subject) -> Lane:
        """The path for a conversation in the state of `subject`; not stored. UNREADABLE uses the default."""
        buckets: list[Bucket] = []
        if conversation.key == UNREADABLE:
            return Lane(self, (), self._leaf(-1), self._tally(b"", -1, ""), self.epoch)
        for index in self.classifier.limits(subject):
            limiter = self.bank.limiters[index]
            if limiter is not None and limiter.active and index not in self._others:
                buckets.append(limiter.bucket(conversation, subject.host))
        rule = self.classifier.rule(subject)
        tally = self._tally(subject.host, rule, self.classifier.service(subject))
        return Lane(self, tuple(buckets), self._leaf(rule), tally, self.epoch)

    def _tally(self, host: bytes, rule: int, service: str) -> FlowTally:
        key = (host, rule, service)
        tally = self._tallies.get(key)
        if tally is None:
            if len(self._tallies) >= MOST_TALLIES:
                self._tallies = {}  # lanes keep theirs; what is counted twice over is added up by its names
            tally = FlowTally(host, rule, self.classifier.rules[rule].name if rule >= 0 else "", service)
            self._tallies[key] = tally
        return tally

    def count_conversations(self, on: bool) -> None:
        """Start or stop counting the bytes of each conversation."""
        if on != (self._conversations is not None):
            self._conversations = {} if on else None

    def collect_conversations(self) -> dict[Conversation, tuple[Size, int]]:
        """Bytes and packets of each conversation since the last call, if they are counted."""
        found = self._conversations
        if found is None:
            return {}
        self._conversations = {}
        return found

    def collect(self) -> list[FlowTally]:
        """The tallies that may have changed since the last call."""
        touched = self.touched
        self.touched = [tally for tally in touched if tally.waiting]
        for tally in touched:
            tally.touched = tally.waiting > 0
        return touched

    def _choose_lane(
        self, conversation: Conversation, lane: Lane | None, kind: int, length: Size, now: Nanoseconds
    ) -> Lane:
        """Sort a conversation. Its queued packets move along, so that none is overtaken."""
        if conversation.watch is not None or self.classifier.watch:
            self._watch(conversation)
        chosen = self.lane_for(conversation, self.classifier.subject(conversation, kind, length))
        if lane is None or lane.shaper is not self:
            return chosen
        if lane.leaf is not chosen.leaf or lane.buckets != chosen.buckets:
            self._redirect(lane, chosen, now)
        lane.tally = chosen.tally
        lane.epoch = self.epoch
        if lane.kinds is not None:
            for other in lane.kinds.values():
                other.epoch = STALE
        return lane

    def _watch(self, conversation: Conversation) -> None:
        """Observe a conversation for the present rules."""
        watch, spec = conversation.watch, self.classifier.watch
        if watch is None:
            conversation.watch = Watch(spec)
        elif watch.spec is not spec:
            conversation.watch = watch.reconfigure(spec)

    def _redirect(self, lane: Lane, chosen: Lane, now: Nanoseconds) -> None:
        """Give a lane another path, and move its queued packets: first those that are furthest ahead."""
        passed: list[Packet] = []
        if lane.leaf is not chosen.leaf:
            uprooted = self._uprooted.pop(lane, None)
            passed = uprooted if uprooted is not None else self.tree.withdraw(lane, now)
            lane.flow = None
        buckets = lane.buckets
        held: list[list[Packet]] = []
        if lane.held is not None:
            held = [self.bank.withdraw(lane, stage, now) for stage in range(len(buckets))]
        lane.leaf, lane.buckets, lane.held = chosen.leaf, chosen.buckets, None
        for packet in passed:
            packet.stage = len(lane.buckets)
            self.enter_tree(packet, now)
        for stage in range(len(held) - 1, -1, -1):
            already = 0  # the limiters in front that these have passed before
            while already < len(lane.buckets) and lane.buckets[already] in buckets[:stage]:
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
            assert packet.lane is not None
            self._uprooted.setdefault(packet.lane, []).append(packet)
        for packet in packets:
            assert packet.lane is not None
            if packet.lane not in self._uprooted:
                continue
            way = self._way(packet.conversation, packet.kind, packet.length, now)
            for one in self._uprooted.pop(packet.lane, []):  # a lane that its conversation no longer has
                one.lane = way
                one.stage = len(way.buckets)
                self.enter_tree(one, now)

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
    lane = packet.lane
    assert lane is not None
    leaf = lane.leaf
    assert isinstance(leaf, Leaf)
    if leaf.parent is None:  # no leaf of the tree any more
        lane.shaper.readmit([packet], now)
    else:
        lane.shaper.enter_tree(packet, now)

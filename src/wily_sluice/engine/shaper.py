"""The shaper of one uplink in one direction: limiters, then the tree, then the line's own pace.

The caller hands in packets by `offer` and takes them out by `release`; `next_release` tells when it is worth asking
again. A packet that will not be sent is handed to `drop`, which must not call back into the shaper.

The pace is a virtual clock at the usable rate. While packets stand here it keeps its own time, so a caller that wakes
late sends what it missed and the rate still holds; after idleness it starts at now, so nothing is saved up.
"""

from wily_sluice.engine.busyness import Busyness
from wily_sluice.engine.condition import Subject
from wily_sluice.engine.conversation import Conversation
from wily_sluice.engine.header import UNREADABLE
from wily_sluice.engine.lane import STALE, Lane
from wily_sluice.engine.limiter import Bucket
from wily_sluice.engine.limiter_bank import LimiterBank
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.sorter import Sorter
from wily_sluice.engine.tree import Leaf, Tree
from wily_sluice.units import BYTE_TIME, MILLISECOND, Direction, Nanoseconds, Size

CATCH_UP: Nanoseconds = 20 * MILLISECOND  # how much of a stall is made good afterwards


class Shaper:
    """Shapes one direction of one uplink. `rate` is the usable rate in bit/s.

    `others` are the limiters, by their place in the bank, that are for other uplinks only. Whoever changes what
    conversations are sorted by adds 1 to `epoch`; each is then sorted again at its next packet.
    """

    def __init__(
        self,
        direction: Direction,
        tree: Tree,
        sorter: Sorter,
        bank: LimiterBank,
        others: frozenset[int] = frozenset(),
    ) -> None:
        self.direction = direction
        self.tree = tree
        self.rate = tree.root.limit
        self._up = direction == "up"
        self.sorter = sorter
        self._bank = bank
        self._others = others
        self._busyness: Busyness | None = None
        self.epoch = 0
        self._clock: Nanoseconds = 0

    def offer(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in."""
        lane = self.lane(packet.conversation, packet.kind, packet.length, now)
        packet.lane = lane
        if self.sorter.marks and lane.rule >= 0:
            packet.dscp = self.sorter.rules[lane.rule].mark
        if lane.buckets:
            packet.stage = 0
            self._bank.offer(packet, now)
        else:
            self.enter_tree(packet, now)

    def lane(self, conversation: Conversation, kind: int, length: Size, now: Nanoseconds) -> Lane:
        """The way that a packet of a conversation takes: sorted now, if it is new or something has changed."""
        watch = conversation.watch
        if watch is not None and watch.saw(self._up, length, now):
            conversation.sort_again()
        lane = conversation.up_lane if self._up else conversation.down_lane
        if lane is None or lane.shaper is not self or lane.epoch != self.epoch:
            lane = self._choose_lane(conversation, lane, 0)
            if self._up:
                conversation.up_lane = lane
            else:
                conversation.down_lane = lane
        if kind & self.sorter.kinds:
            lane = self._lane_of_kind(conversation, lane, kind & self.sorter.kinds)
        return lane

    def leaf_of(self, conversation: Conversation) -> Leaf:
        """The leaf that a conversation is sorted to."""
        return self._leaf(self.sorter.rule(self.sorter.subject(conversation)))

    def _leaf(self, rule: int) -> Leaf:
        return self.tree.leaves[self.sorter.rules[rule].leaf if rule >= 0 else self.sorter.default]

    def watch_busyness(self) -> Busyness:
        """Have it measured from now on how busy the line is."""
        if self._busyness is None:
            self._busyness = Busyness(self.rate)
        return self._busyness

    def _lane_of_kind(self, conversation: Conversation, lane: Lane, kind: int) -> Lane:
        """The lane of packets of a kind that rules ask for; kept beside that of the conversation's other packets."""
        if lane.kinds is None:
            lane.kinds = {}
        chosen = lane.kinds.get(kind)
        if chosen is None or chosen.epoch != self.epoch:
            chosen = lane.kinds[kind] = self._choose_lane(conversation, chosen, kind)
        return chosen

    def lane_for(self, conversation: Conversation, subject: Subject) -> Lane:
        """The way of packets of a conversation that is as `subject` says; not kept. UNREADABLE has the default."""
        buckets: list[Bucket] = []
        if conversation.key == UNREADABLE:
            return Lane(self, (), self._leaf(-1), self.epoch)
        for place in self.sorter.limits(subject):
            limiter = self._bank.limiters[place]
            if limiter is not None and limiter.active and place not in self._others:
                buckets.append(limiter.bucket(conversation))
        rule = self.sorter.rule(subject)
        return Lane(self, tuple(buckets), self._leaf(rule), self.epoch, rule)

    def _choose_lane(self, conversation: Conversation, before: Lane | None, kind: int) -> Lane:
        lane = self.lane_for(conversation, self.sorter.subject(conversation, kind))
        if before is not None and before.shaper is self:
            if before.leaf is lane.leaf and before.buckets == lane.buckets:
                before.epoch = self.epoch
                before.rule = lane.rule
                _mark_stale(before.kinds)
                return before
            if _still_held(before, lane.buckets):
                return before
        if before is not None and before.leaf is lane.leaf:
            lane.flow = before.flow
        return lane

    def enter_tree(self, packet: Packet, now: Nanoseconds) -> None:
        """Take in a packet that is past its limiters."""
        if self._clock < now and not self.tree.active:
            self._clock = now
        self.tree.enqueue(packet, now)

    @property
    def free_at(self) -> Nanoseconds:
        """Before this, nothing is released, whatever is offered."""
        return self._clock

    def release(self, now: Nanoseconds) -> Packet | None:
        """The packet to send now, if there is one."""
        if self._bank.waiting:
            self._bank.advance(now)
        if self._clock > now:
            return None
        if not self.tree.active:
            self._clock = now
        self.tree.open_caps(now)
        packet = self.tree.dequeue(now)
        if packet is None:
            return None
        if self._busyness is not None:
            self._busyness.sent(packet.size, now)
        behind = now - CATCH_UP
        self._clock = (self._clock if self._clock > behind else behind) + packet.size * BYTE_TIME // self.rate
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
        if self._bank.waiting:
            passing = self._bank.waiting[0][0]
            if due is None or passing < due:
                due = passing
        return now if due is not None and due < now else due


def _mark_stale(lanes: dict[int, Lane] | None) -> None:
    if lanes is not None:
        for lane in lanes.values():
            lane.epoch = STALE


def _still_held(lane: Lane, buckets: tuple[Bucket, ...]) -> bool:
    """Whether packets wait at a limiter that no longer applies: the next must not overtake them."""
    if lane.held is None:
        return False
    for bucket, flow in zip(lane.buckets, lane.held, strict=True):
        if flow is not None and flow.length and bucket not in buckets:
            return True
    return False


def forward_to_tree(packet: Packet, now: Nanoseconds) -> None:
    """Hand a packet that is past its limiters to the tree of the uplink that it is on."""
    assert packet.lane is not None
    packet.lane.shaper.enter_tree(packet, now)

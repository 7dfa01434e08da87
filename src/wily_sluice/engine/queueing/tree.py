"""A tree of queues: which packet goes next.

First come the leaves that are promised a delay, by deadline, whatever stands above them (`service_curve`). Else, from
the root down, at every parent the choice is the same as in the exact split, made packet by packet:

1. a child that is behind on its guarantee goes first, the one furthest behind before the others;
2. else the children take turns in the order of their priority, and within one priority by weight: start-time fair
   queueing (Goyal, Vin, Cheng 1996), where a child's start tag moves on by size / weight for each packet it sends.

At a weighted parent a packet sent by (1) counts toward the guarantee only, one sent by (2) toward the turn only, so a
child gets its guarantee and its part of what is left. At a curve parent the turns are about all that a child sends, so
whoever has more by its guarantee than its part waits with its turn. A strict parent's children have no guarantees. A
guarantee and a cap are virtual clocks: each packet moves them on by its own time at that rate; a guarantee is due, and
a cap is open, when its clock is not ahead of now.

A child stands in its parent's heaps only while it can send: it, or a leaf below it, has a packet, and no cap between
is closed. Tags only grow, so a heap entry that is out of date is simply put right when it comes to the top; no child
stands in a heap twice. What a packet costs is a few heap steps for each level, however many queues there are. A heap
holds plain integers, the clock or tag above the child's place, which compare faster and lie closer together than
anything else would.

Invariants: a leaf's packets leave in its own discipline's order; the tree is never idle while a leaf whose caps are
open has a packet; a cap passes at most cap x t + its burst + one packet over any window of t, where the burst is
CAP_BURST, and as much as promised leaves below may have at once.
"""

from collections.abc import Callable
from heapq import heappop, heappush, heapreplace
from operator import attrgetter
from typing import TYPE_CHECKING, Final, NamedTuple

from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.leaf_queue import LeafQueue
from wily_sluice.engine.queueing.pace import at_rate, sending_time
from wily_sluice.engine.queueing.service_curve import BUSY_CREDIT, Promise, RealTime
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.tally import Tally
from wily_sluice.units import MILLISECOND, Nanoseconds, Rate, Size, transmission_time

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.lane import Lane

CAP_BURST_TIME: Final[Nanoseconds] = 10 * MILLISECOND
CAP_BURST_FRAMES: Final = 4
# How far a guarantee's clock may fall behind while its queue cannot send, which is what it may then claim at once;
# while it can, BUSY_CREDIT holds, so that what a long stall held up is not all made good at the others' cost.
IDLE_CREDIT: Final[Nanoseconds] = 10 * MILLISECOND
# How far, over its weight, a curve's child may get ahead in its turns by its guarantee: it is not made to wait longer
# than that for having had it. Its part by weight is exact to a packet in so many bytes.
MOST_AHEAD: Final[Size] = 400 * LONGEST_FRAME


class Past(NamedTuple):
    """What a queue has counted, and its clocks with the rates that they went at."""

    sent_bytes: Size
    marks: int
    drops: int
    cap: Rate
    cap_clock: Nanoseconds
    guarantee: Rate
    due: Nanoseconds


class Node:
    """A queue of the tree, leaf or parent, with its counters: bytes sent, packets marked, and dropped."""

    __slots__ = (
        "band",
        "blocked",
        "cap",
        "cap_burst",
        "cap_clock",
        "drops",
        "due",
        "guarantee",
        "idle_credit",
        "in_band",
        "in_due",
        "marks",
        "order",
        "parent",
        "path",
        "place",
        "ready",
        "sent_bytes",
        "start",
        "weight",
    )

    def __init__(self, spec: QueueSpec, parent: "Parent | None", order: int) -> None:
        self.path = spec.path
        self.parent = parent
        self.order = order
        self.place = len(parent.children) if parent is not None else 0
        self.band = parent.band_of[spec.priority] if parent is not None else None
        self.weight = spec.weight
        self.guarantee = spec.guarantee
        # A child whose cap is its parent's is held by the parent's clock already.
        self.cap = spec.cap if parent is not None and spec.cap < parent.limit else 0
        self.cap_burst = max(CAP_BURST_TIME, transmission_time(CAP_BURST_FRAMES * LONGEST_FRAME, spec.cap))
        self.idle_credit = (
            max(IDLE_CREDIT, transmission_time(2 * LONGEST_FRAME, spec.guarantee)) if spec.guarantee else 0
        )
        self.cap_clock: Nanoseconds = 0
        self.due: Nanoseconds = 0  # the guarantee's clock
        self.start = 0.0  # start tag, in bytes over weight
        self.ready = False
        self.blocked = False  # stands in the tree's heap of closed caps
        self.in_due = False
        self.in_band = False
        self.sent_bytes: Size = 0
        self.marks = 0
        self.drops = 0

    @property
    def past(self) -> Past:
        """For whoever takes this place in a tree of another shape."""
        return Past(self.sent_bytes, self.marks, self.drops, self.cap, self.cap_clock, self.guarantee, self.due)

    def carry_on(self, past: Past, now: Nanoseconds) -> None:
        """Go on with the counters of the queue that stood here before, and with what it used of cap and guarantee."""
        self.sent_bytes, self.marks, self.drops = past.sent_bytes, past.marks, past.drops
        self.cap_clock = at_rate(past.cap_clock, now, past.cap, self.cap)
        self.due = at_rate(past.due, now, past.guarantee, self.guarantee)

    @property
    def has_packet(self) -> bool:
        """Whether a packet could be sent from here, but for this queue's own cap."""
        raise NotImplementedError


def _promise(spec: QueueSpec, parent: "Parent") -> Promise | None:
    return Promise(spec.guarantee, spec.leaf.delay, spec.largest) if parent.is_curve and spec.guarantee else None


class Leaf(Node):
    """A queue that holds packets. One that has a promise keeps its next packet at hand, so that its size is known.

    It outlives a change of the tree's shape: it is planted again.
    """

    __slots__ = ("due_key", "head", "is_due", "promise", "queue", "sent_payload", "tally")

    def __init__(self, spec: QueueSpec, parent: "Parent", order: int, queue: LeafQueue) -> None:
        super().__init__(spec, parent, order)
        self.queue = queue
        self.promise = _promise(spec, parent)
        self.head: Packet | None = None
        self.due_key: Nanoseconds | None = None  # see RealTime
        self.is_due = False
        self.sent_payload: Size = 0
        self.tally = Tally()

    def replant(self, spec: QueueSpec, parent: "Parent", order: int, queue: LeafQueue, now: Nanoseconds) -> None:
        """Take a place in a tree of another shape, with all that stands here, held as `queue`, a new one, would."""
        past = self.past
        Node.__init__(self, spec, parent, order)
        self.carry_on(past, now)
        before, promise = self.promise, _promise(spec, parent)
        if promise is None or before is None or not promise.is_like(before):
            self.promise = promise
            if promise is not None:
                promise.begin(now)
        self.due_key, self.is_due = None, False
        if not self.queue.follow(queue):
            for packet in self.queue.drain():
                assert packet.lane is not None
                packet.stage = len(packet.lane.buckets)
                queue.enqueue(packet, now)
            self.queue.dissolve()
            self.queue = queue
        if self.promise is not None and self.head is None:
            self.head = self.queue.dequeue(now)

    def uproot(self) -> list[Packet]:
        """Have no place in any tree: give out what stands here, in its order."""
        self.parent = None
        packets = [self.head] if self.head is not None else []
        self.head = None
        packets += self.queue.drain()
        self.queue.dissolve()
        return packets

    @property
    def has_packet(self) -> bool:
        """Whether a packet stands here."""
        return self.head is not None or self.queue.length > 0

    @property
    def length(self) -> int:
        """How many packets stand here."""
        return self.queue.length + (self.head is not None)

    @property
    def backlog(self) -> Size:
        """How many bytes stand here."""
        return self.queue.backlog + (self.head.size if self.head is not None else 0)


class Band:
    """The children of one parent that take turns, and the virtual time at which they do."""

    __slots__ = ("heap", "virtual")

    def __init__(self) -> None:
        self.virtual = 0.0
        self.heap: list[int] = []  # turn keys


class Parent(Node):
    """A queue that divides what it gets among its children."""

    __slots__ = ("band_of", "bands", "by_turn", "children", "due_heap", "is_curve", "limit", "ready_children", "shift")

    def __init__(self, spec: QueueSpec, parent: "Parent | None", order: int) -> None:
        super().__init__(spec, parent, order)
        self.limit = spec.cap
        self.children: list[Node] = []
        self.shift = len(spec.children).bit_length()  # how far a clock or tag is moved to make room for a child's place
        self.is_curve = spec.discipline == "curve"
        self.ready_children = 0
        self.by_turn = False  # how the child was chosen that `next_child` gave last
        self.due_heap: list[int] = []  # due keys
        priorities = sorted({child.priority for child in spec.children})
        self.bands = [Band()] if self.is_curve else [Band() for _ in priorities]
        self.band_of = {
            priority: self.bands[0 if self.is_curve else place] for place, priority in enumerate(priorities)
        }

    @property
    def has_packet(self) -> bool:
        """Whether a child can send."""
        return self.ready_children > 0

    def due_key(self, node: Node) -> int:
        """A child's clock for the heap, to a microsecond, and its place."""
        return ((node.due >> 10) << self.shift) | node.place

    def turn_key(self, node: Node) -> int:
        """A child's start tag for the heap, to a byte, and its place."""
        return (int(node.start) << self.shift) | node.place

    def next_child(self, now: Nanoseconds) -> Node:
        """The child to send from. Only to be called while a child is ready."""
        shift = self.shift
        mask = (1 << shift) - 1
        due = self.due_heap
        if due:
            latest = ((now >> 10) << shift) | mask
            while due and (key := due[0]) <= latest:
                node = self.children[key & mask]
                if not node.ready:
                    heappop(due)
                    node.in_due = False
                elif key != (own := self.due_key(node)):
                    heapreplace(due, own)
                else:
                    self.by_turn = False
                    return node
        self.by_turn = True
        for band in self.bands:
            heap = band.heap
            while heap:
                key = heap[0]
                node = self.children[key & mask]
                if not node.ready:
                    heappop(heap)
                    node.in_band = False
                elif key != (own := self.turn_key(node)):
                    heapreplace(heap, own)
                else:
                    return node
        raise AssertionError(f"{self.path or 'root'}: no child is ready")


class Tree:
    """The queues of one uplink in one direction. `leaves` are in the order of the plan."""

    def __init__(
        self,
        spec: QueueSpec,
        drop: Callable[[Packet], None],
        leaf_queue: Callable[[QueueSpec, Callable[[Packet], None]], LeafQueue],
    ) -> None:
        if not spec.children:
            raise ValueError("a tree needs at least one queue below its root")
        self._drop = drop
        self._leaf_queue = leaf_queue
        self._now: Nanoseconds = 0  # of the last call
        self._closed: list[tuple[Nanoseconds, int, Node]] = []  # heap: queues whose cap is closed, by when it opens
        self._real_time: RealTime | None = None  # where a leaf has a promise
        self.leaves: list[Leaf] = []
        self.nodes: list[Node] = []
        self.root = self._grow_parent(spec, None, {})

    def reshape(self, other: "Tree", spec: QueueSpec, now: Nanoseconds) -> list[Packet]:
        """Become a tree of another shape: `spec`, its leaves holding packets as `other`, a new one of it, has them do.

        Queues of the same path keep their counters, and leaves what stands in them. What stood in others is given out.
        """
        before: dict[str, Node] = {node.path: node for node in self.nodes}
        leaves = self.leaves
        for node in self.nodes:
            if isinstance(node, Parent):
                node.children.clear()  # they get other parents
        self._leaf_queue = other._leaf_queue
        self._now = now
        self._clear()
        self.root = self._grow_parent(spec, None, before)
        stay = {leaf.path for leaf in self.leaves}
        packets: list[Packet] = []
        for leaf in leaves:
            if leaf.path not in stay:
                for packet in leaf.uproot():
                    leaf.tally.move(packet, now)
                    packets.append(packet)
        packets.sort(key=attrgetter("entered"))
        for leaf in self.leaves:
            if leaf.promise is not None and leaf.head is not None:
                assert self._real_time is not None
                self._real_time.place(leaf)
            if leaf.has_packet:
                self._make_ready(leaf, now)
        return packets

    def dissolve(self) -> None:
        """Be of no more use: leave no cycle of objects behind, which only a collector of garbage would find."""
        for node in self.nodes:
            node.parent = None
            if isinstance(node, Parent):
                node.children.clear()
        self._clear()

    def _clear(self) -> None:
        """Have no queues. A method of its own: who assigned None here and went on would be compiled as if it stayed."""
        self._closed, self._real_time = [], None
        self.leaves, self.nodes = [], []

    def _grow_parent(self, spec: QueueSpec, parent: Parent | None, before: dict[str, Node]) -> Parent:
        node = Parent(spec, parent, len(self.nodes))
        self.nodes.append(node)
        old = before.get(spec.path)
        if old is not None:
            node.carry_on(old.past, self._now)
        if parent is not None:
            parent.children.append(node)
        for child in spec.children:
            if child.children:
                self._grow_parent(child, node, before)
            else:
                queue = self._leaf_queue(child, self._dropped)
                old = before.get(child.path)
                if isinstance(old, Leaf):
                    leaf = old
                    leaf.replant(child, node, len(self.nodes), queue, self._now)
                else:
                    leaf = Leaf(child, node, len(self.nodes), queue)
                    if old is not None:
                        leaf.carry_on(old.past, self._now)
                if leaf.promise is not None and self._real_time is None:
                    self._real_time = RealTime()
                self.nodes.append(leaf)
                node.children.append(leaf)
                self.leaves.append(leaf)
        return node

    def _dropped(self, packet: Packet) -> None:
        assert packet.lane is not None
        leaf = packet.lane.leaf
        leaf.tally.lose(packet, self._now)
        if packet.tally is not None:
            packet.tally.lose(packet, self._now)
        node: Node | None = leaf
        while node is not None:
            node.drops += 1
            node = node.parent
        self._drop(packet)

    @property
    def active(self) -> bool:
        """Whether a packet stands here that no cap holds back."""
        return self.root.ready_children > 0

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Put a packet whose lane is set into its leaf."""
        assert packet.lane is not None
        leaf = packet.lane.leaf
        self._now = now
        leaf.tally.enter(packet, now)
        leaf.queue.enqueue(packet, now)
        promise = leaf.promise
        if promise is not None and leaf.head is None:
            leaf.head = leaf.queue.dequeue(now)
            if leaf.head is not None:
                assert self._real_time is not None
                promise.begin(now)
                self._real_time.place(leaf)
        if not leaf.ready and leaf.has_packet:
            self._make_ready(leaf, now)

    def withdraw(self, lane: "Lane", now: Nanoseconds) -> list[Packet]:
        """Take out what came by a lane, in its order."""
        leaf = lane.leaf
        self._now = now
        packets = leaf.queue.withdraw(lane)
        head = leaf.head
        if head is not None and head.lane is lane:
            packets.insert(0, head)
            leaf.head = None
            if leaf.promise is not None and self._real_time is not None:
                leaf.head = leaf.queue.dequeue(now)
                self._real_time.place(leaf)
        for packet in packets:
            leaf.tally.move(packet, now)
        return packets

    def _make_ready(self, first: Node, now: Nanoseconds) -> None:
        """Let `first`, which has a packet, take part; and its parents, where it is the first of theirs."""
        node = first
        while (parent := node.parent) is not None:
            if node.ready or node.blocked:
                return
            if node.guarantee and node.due < now - node.idle_credit:
                node.due = now - node.idle_credit
            if node.cap and node.cap_clock > now:
                node.blocked = True
                heappush(self._closed, (node.cap_clock, node.order, node))
                return
            node.ready = True
            band = node.band
            assert band is not None
            if node.start < band.virtual:
                node.start = band.virtual
            if not node.in_band:
                node.in_band = True
                heappush(band.heap, parent.turn_key(node))
            if node.guarantee and not node.in_due and not (isinstance(node, Leaf) and node.promise is not None):
                node.in_due = True
                heappush(parent.due_heap, parent.due_key(node))
            parent.ready_children += 1
            node = parent

    def open_caps(self, now: Nanoseconds) -> None:
        """Let those take part again whose cap has opened."""
        closed = self._closed
        while closed and closed[0][0] <= now:
            node = heappop(closed)[2]
            node.blocked = False
            if node.has_packet:
                self._make_ready(node, now)

    def next_opening(self) -> Nanoseconds | None:
        """When the next closed cap opens, or the next promise is due that a closed cap does not hold."""
        opening = self._closed[0][0] if self._closed else None
        eligible = self._real_time.next_eligible() if self._real_time is not None else None
        if opening is None or (eligible is not None and eligible < opening):
            return eligible
        return opening

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The packet to send next; None when no queue can send. `open_caps` comes first."""
        self._now = now
        while True:
            leaf = self._real_time.next_leaf(now) if self._real_time is not None else None
            promised = leaf is not None
            if leaf is None:
                if not self.root.ready_children:
                    return None
                node = self.root.next_child(now)
                while isinstance(node, Parent):
                    node = node.next_child(now)
                assert isinstance(node, Leaf)
                leaf = node
            packet = self._take(leaf, now, promised)
            self._account(leaf, packet, now, promised)
            if packet is not None:
                leaf.sent_payload += packet.payload
                leaf.tally.leave(packet, now, now - packet.entered)
                return packet

    def _take(self, leaf: Leaf, now: Nanoseconds, promised: bool) -> Packet | None:
        """The leaf's next packet; with what is promised to it kept up to date."""
        promise = leaf.promise
        if promise is None:
            if leaf.head is None:
                return leaf.queue.dequeue(now)
            kept, leaf.head = leaf.head, None  # it had a promise once
            return kept
        real_time = self._real_time
        assert real_time is not None
        packet, leaf.head = leaf.head, leaf.queue.dequeue(now)
        if packet is None:  # what stood here was taken elsewhere
            return None
        if promised:
            promise.charge(packet.size, now)
            real_time.place(leaf)
        else:
            real_time.head_changed(leaf)
        return packet

    def _account(self, leaf: Leaf, packet: Packet | None, now: Nanoseconds, promised: bool) -> None:
        """From the leaf up: charge the packet to each queue that it passed, and take out who cannot send on."""
        node: Node = leaf
        more = leaf.has_packet
        while (parent := node.parent) is not None:
            if packet is not None:
                _charge(node, parent, packet, now, promised)
            if not more or node.cap_clock > now:
                if node.ready:
                    node.ready = False
                    parent.ready_children -= 1
                if more and not node.blocked:
                    node.blocked = True
                    heappush(self._closed, (node.cap_clock, node.order, node))
            node, more = parent, parent.ready_children > 0


def _charge(node: Node, parent: Parent, packet: Packet, now: Nanoseconds, promised: bool) -> None:
    """Count a packet that a queue sent: in its turns, or else toward its guarantee; and against its cap."""
    size = packet.size
    node.sent_bytes += size
    if packet.marked:
        node.marks += 1
    band = node.band
    assert band is not None
    if parent.by_turn and not promised:
        band.virtual = node.start
        node.start += size / node.weight
    else:
        if node.guarantee:
            behind = now - BUSY_CREDIT
            node.due = (node.due if node.due > behind else behind) + sending_time(size, node.guarantee)
        if parent.is_curve:
            start = node.start + size / node.weight
            most = band.virtual + MOST_AHEAD / node.weight
            node.start = start if start < most else max(node.start, most)
    if node.cap:
        behind = now - node.cap_burst
        node.cap_clock = (node.cap_clock if node.cap_clock > behind else behind) + sending_time(size, node.cap)

"""A queue in the tree: a leaf, which holds packets, or a parent, which chooses among its children.

A child is in its parent's heaps only while it can send: it, or a leaf below it, has a packet, and no cap in between is
closed. Tags only grow, so an outdated heap entry is corrected when it reaches the top; no child is in a heap twice.
Heap entries are plain integers, the clock or tag above the child's index, which compare fast and are compact in memory.
"""

from heapq import heappop, heapreplace
from typing import Final, NamedTuple

from wily_sluice.engine.packet import LONGEST_FRAME, Packet
from wily_sluice.engine.queueing.flow_path import Station
from wily_sluice.engine.queueing.leaf_queue import LeafQueue
from wily_sluice.engine.queueing.service_curve import BUSY_CREDIT, Promise, at_rate, sending_time
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.tally import Tally
from wily_sluice.units import MILLISECOND, Nanoseconds, Rate, Size, transmission_time

CAP_BURST_TIME: Final[Nanoseconds] = 10 * MILLISECOND
CAP_BURST_FRAMES: Final = 4
# How far a guarantee's clock may fall behind while its queue cannot send, and so how much it may then claim at once;
# while it can, BUSY_CREDIT holds, so that a long stall is not fully made up at the others' cost.
IDLE_CREDIT: Final[Nanoseconds] = 10 * MILLISECOND
# How far, over its weight, a curve's child may get ahead in its turns by its guarantee: it does not wait longer than
# that afterwards. Its part by weight is exact to a packet in so many bytes.
MOST_AHEAD: Final[Size] = 400 * LONGEST_FRAME


class Past(NamedTuple):
    """A queue's counters, and its clocks with their rates."""

    sent_bytes: Size
    marks: int
    drops: int
    cap: Rate
    cap_clock: Nanoseconds
    guarantee: Rate
    due: Nanoseconds


class Node(Station):
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
        "index",
        "marks",
        "order",
        "parent",
        "ready",
        "sent_bytes",
        "start",
        "weight",
    )

    def __init__(self, spec: QueueSpec, parent: "Parent | None", order: int) -> None:
        super().__init__(spec.path)
        self.parent = parent
        self.order = order
        self.index = len(parent.children) if parent is not None else 0
        self.band = parent.band_of[spec.priority] if parent is not None else None
        self.weight = spec.weight
        self.guarantee = self.cap = 0
        self.cap_burst = self.idle_credit = 0
        self._set_rates(spec)
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

    def _set_rates(self, spec: QueueSpec) -> None:
        self.guarantee = spec.guarantee
        # A child whose cap is its parent's is held by the parent's clock already.
        self.cap = spec.cap if self.parent is not None and spec.cap < self.parent.limit else 0
        self.cap_burst = max(CAP_BURST_TIME, transmission_time(CAP_BURST_FRAMES * LONGEST_FRAME, spec.cap))
        self.idle_credit = (
            max(IDLE_CREDIT, transmission_time(2 * LONGEST_FRAME, spec.guarantee)) if spec.guarantee else 0
        )

    def retune(self, spec: QueueSpec, now: Nanoseconds) -> None:
        """Go on with the rates of `spec`, keeping the use of the earlier rates."""
        cap, guarantee = self.cap, self.guarantee
        self._set_rates(spec)
        self.cap_clock = at_rate(self.cap_clock, now, cap, self.cap)
        self.due = at_rate(self.due, now, guarantee, self.guarantee)

    @property
    def past(self) -> Past:
        """The state that the successor in a tree of another shape takes over."""
        return Past(self.sent_bytes, self.marks, self.drops, self.cap, self.cap_clock, self.guarantee, self.due)

    def carry_on(self, past: Past, now: Nanoseconds) -> None:
        """Go on with the counters of the queue that was here before, and with its use of cap and guarantee."""
        self.sent_bytes, self.marks, self.drops = past.sent_bytes, past.marks, past.drops
        self.cap_clock = at_rate(past.cap_clock, now, past.cap, self.cap)
        self.due = at_rate(past.due, now, past.guarantee, self.guarantee)

    @property
    def has_packet(self) -> bool:
        """Whether a packet could be sent from here, apart from this queue's own cap."""
        raise NotImplementedError


def _promise(spec: QueueSpec, parent: "Parent") -> Promise | None:
    return Promise(spec.guarantee, spec.leaf.delay, spec.largest) if parent.is_curve and spec.guarantee else None


class Leaf(Node):
    """A queue that holds packets. One that has a promise keeps its next packet at hand, so that its size is known.

    It outlives a change of the tree's shape: it takes a place in the new one.
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
        """Take a place in a tree of another shape, with all packets, now held as the new `queue` would."""
        past = self.past
        Node.__init__(self, spec, parent, order)
        self.carry_on(past, now)
        before, promise = self.promise, _promise(spec, parent)
        if promise is None or before is None or not promise.is_like(before):
            self.promise = promise
            if promise is not None:
                promise.begin(now)
        self.due_key, self.is_due = None, False
        if not self.queue.reconfigure(queue):
            for packet in self.queue.drain():
                assert packet.flow_path is not None
                packet.stage = len(packet.flow_path.buckets)
                queue.enqueue(packet, now)
            self.queue.dissolve()
            self.queue = queue
        if self.promise is not None and self.head is None:
            self.head = self.queue.dequeue(now)

    def retune(self, spec: QueueSpec, now: Nanoseconds) -> None:
        """Likewise, with a promise of another rate."""
        Node.retune(self, spec, now)
        if self.promise is not None and self.parent is not None:
            promise = _promise(spec, self.parent)
            if promise is not None and not promise.is_like(self.promise):
                promise.begin(now)
                self.promise = promise

    def uproot(self) -> list[Packet]:
        """Leave the tree: return its packets, in order."""
        self.parent = None
        packets = [self.head] if self.head is not None else []
        self.head = None
        packets += self.queue.drain()
        self.queue.dissolve()
        return packets

    @property
    def has_packet(self) -> bool:
        """Whether a packet is queued here."""
        return self.head is not None or self.queue.length > 0

    @property
    def length(self) -> int:
        """How many packets are queued here."""
        return self.queue.length + (self.head is not None)

    @property
    def backlog(self) -> Size:
        """How many bytes are queued here."""
        return self.queue.backlog + (self.head.size if self.head is not None else 0)


class Band:
    """The children of a parent that take turns, and their virtual time."""

    __slots__ = ("heap", "virtual")

    def __init__(self) -> None:
        self.virtual = 0.0
        self.heap: list[int] = []  # turn keys


class Parent(Node):
    """A queue that divides its rate among its children."""

    __slots__ = ("band_of", "bands", "by_turn", "children", "due_heap", "is_curve", "limit", "ready_children", "shift")

    def __init__(self, spec: QueueSpec, parent: "Parent | None", order: int) -> None:
        super().__init__(spec, parent, order)
        self.limit = spec.cap
        self.children: list[Node] = []
        self.shift = len(spec.children).bit_length()  # how far a clock or tag is moved to make room for a child's index
        self.is_curve = spec.discipline == "curve"
        self.ready_children = 0
        self.by_turn = False  # how the child was chosen that `next_child` gave last
        self.due_heap: list[int] = []  # due keys
        priorities = sorted({child.priority for child in spec.children})
        self.bands = [Band()] if self.is_curve else [Band() for _ in priorities]
        self.band_of = {
            priority: self.bands[0 if self.is_curve else index] for index, priority in enumerate(priorities)
        }

    def retune(self, spec: QueueSpec, now: Nanoseconds) -> None:
        """Likewise, with another limit for its children."""
        Node.retune(self, spec, now)
        self.limit = spec.cap

    @property
    def has_packet(self) -> bool:
        """Whether a child can send."""
        return self.ready_children > 0

    def due_key(self, node: Node) -> int:
        """A child's clock for the heap, to a microsecond, and its index."""
        return ((node.due >> 10) << self.shift) | node.index

    def turn_key(self, node: Node) -> int:
        """A child's start tag for the heap, to a byte, and its index."""
        return (int(node.start) << self.shift) | node.index

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


def charge(node: Node, parent: Parent, packet: Packet, now: Nanoseconds, promised: bool) -> None:
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
            latest = band.virtual + MOST_AHEAD / node.weight
            node.start = start if start < latest else max(node.start, latest)
    if node.cap:
        behind = now - node.cap_burst
        node.cap_clock = (node.cap_clock if node.cap_clock > behind else behind) + sending_time(size, node.cap)

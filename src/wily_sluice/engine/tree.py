"""A tree of weighted queues: which packet goes next.

At every parent the choice is the same as in the exact split, made packet by packet:

1. a child that is behind on its guarantee goes first, the one furthest behind before the others;
2. else the children take turns in the order of their priority, and within one priority by weight: start-time fair
   queueing (Goyal, Vin, Cheng 1996), where a child's start tag moves on by size / weight for each packet it sends.

A packet sent by (1) counts toward the guarantee only, one sent by (2) toward the turn only, so a child gets its
guarantee and its part of what is left, as the plan says. A guarantee and a cap are virtual clocks: each packet moves
them on by its own time at that rate; a guarantee is due, and a cap is open, when its clock is not ahead of now.

A child stands in its parent's heaps only while it can send: it, or a leaf below it, has a packet, and no cap between
is closed. Tags only grow, so a heap entry that is out of date is simply put right when it comes to the top; no child
stands in a heap twice. What a packet costs is a few heap steps for each level, however many queues there are.

Invariants: a leaf's packets leave in its own discipline's order; the tree is never idle while a leaf whose caps are
open has a packet; a cap passes at most cap x t + CAP_BURST + one packet over any window of t.
"""

from collections.abc import Callable
from heapq import heappop, heappush, heapreplace
from typing import Protocol

from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.spec import QueueSpec
from wily_sluice.units import BYTE_TIME, MILLISECOND, SECOND, Nanoseconds, Size, transmission_time

CAP_BURST_TIME: Nanoseconds = 10 * MILLISECOND
CAP_BURST_FRAMES = 4
# How far a guarantee's clock may fall behind: while its queue cannot send (what it may then claim at once), and while
# it can, so that what a long stall held up is not all made good at the others' cost.
IDLE_CREDIT: Nanoseconds = 10 * MILLISECOND
BUSY_CREDIT: Nanoseconds = SECOND


class Node:
    """A queue of the tree, leaf or parent, with its counters: bytes sent, and packets dropped."""

    __slots__ = (
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
        "order",
        "parent",
        "path",
        "priority",
        "ready",
        "sent_bytes",
        "start",
        "turn",
        "weight",
    )

    def __init__(self, spec: QueueSpec, parent: "Parent | None", order: int) -> None:
        self.path = spec.path
        self.parent = parent
        self.order = order
        self.priority = spec.priority
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
        self.turn: Band | None = None  # by which it was chosen last; None: by its guarantee
        self.ready = False
        self.blocked = False  # stands in the tree's heap of closed caps
        self.in_due = False
        self.in_band = False
        self.sent_bytes: Size = 0
        self.drops = 0

    @property
    def has_packet(self) -> bool:
        """Whether a packet could be sent from here, but for this queue's own cap."""
        raise NotImplementedError


class LeafQueue(Protocol):
    """What a leaf holds its packets in."""

    @property
    def length(self) -> int:
        """How many packets stand here."""

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in; what does not fit is dropped."""

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The next packet to send; None when there is none, or the last was dropped."""


class Leaf(Node):
    """A queue that holds packets."""

    __slots__ = ("queue",)

    def __init__(self, spec: QueueSpec, parent: "Parent", order: int, queue: LeafQueue) -> None:
        super().__init__(spec, parent, order)
        self.queue = queue

    @property
    def has_packet(self) -> bool:
        """Whether a packet stands here."""
        return self.queue.length > 0


class Band:
    """The children of one parent that have one priority, and the virtual time at which they take turns."""

    __slots__ = ("heap", "priority", "virtual")

    def __init__(self, priority: int) -> None:
        self.priority = priority
        self.virtual = 0.0
        self.heap: list[tuple[float, int, Node]] = []


class Parent(Node):
    """A queue that divides what it gets among its children."""

    __slots__ = ("band_of", "bands", "due_heap", "limit", "ready_children")

    def __init__(self, spec: QueueSpec, parent: "Parent | None", order: int) -> None:
        super().__init__(spec, parent, order)
        self.limit = spec.cap
        self.ready_children = 0
        self.due_heap: list[tuple[Nanoseconds, int, Node]] = []
        self.bands = [Band(priority) for priority in sorted({child.priority for child in spec.children})]
        self.band_of = {band.priority: band for band in self.bands}

    @property
    def has_packet(self) -> bool:
        """Whether a child can send."""
        return self.ready_children > 0

    def next_child(self, now: Nanoseconds) -> Node:
        """The child to send from, its `turn` set: the band whose turn it is, or None when it is owed its guarantee.

        Only to be called while a child is ready.
        """
        due = self.due_heap
        while due and due[0][0] <= now:
            key, _, node = due[0]
            if not node.ready:
                heappop(due)
                node.in_due = False
            elif key != node.due:
                heapreplace(due, (node.due, node.order, node))
            else:
                node.turn = None
                return node
        for band in self.bands:
            heap = band.heap
            while heap:
                tag, _, node = heap[0]
                if not node.ready:
                    heappop(heap)
                    node.in_band = False
                elif tag != node.start:
                    heapreplace(heap, (node.start, node.order, node))
                else:
                    node.turn = band
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
        self._closed: list[tuple[Nanoseconds, int, Node]] = []  # heap: queues whose cap is closed, by when it opens
        self.leaves: list[Leaf] = []
        self.nodes: list[Node] = []
        root = self._grow(spec, None)
        assert isinstance(root, Parent)
        self.root = root

    def _grow(self, spec: QueueSpec, parent: Parent | None) -> Node:
        if not spec.children:
            assert parent is not None
            queue = self._leaf_queue(spec, self._dropped)
            leaf = Leaf(spec, parent, len(self.nodes), queue)
            self.nodes.append(leaf)
            self.leaves.append(leaf)
            return leaf
        node = Parent(spec, parent, len(self.nodes))
        self.nodes.append(node)
        for child in spec.children:
            self._grow(child, node)
        return node

    def _dropped(self, packet: Packet) -> None:
        node: Node | None = packet.lane.leaf
        while node is not None:
            node.drops += 1
            node = node.parent
        self._drop(packet)

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Put a packet whose lane is set into its leaf."""
        leaf: Leaf = packet.lane.leaf
        leaf.queue.enqueue(packet, now)
        if not leaf.ready and leaf.queue.length:
            self._make_ready(leaf, now)

    def _make_ready(self, node: Node, now: Nanoseconds) -> None:
        """Let `node`, which has a packet, take part; and its parents, where it is the first of theirs."""
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
            band = parent.band_of[node.priority]
            if node.start < band.virtual:
                node.start = band.virtual
            if not node.in_band:
                node.in_band = True
                heappush(band.heap, (node.start, node.order, node))
            if node.guarantee and not node.in_due:
                node.in_due = True
                heappush(parent.due_heap, (node.due, node.order, node))
            parent.ready_children += 1
            node = parent

    def open_caps(self, now: Nanoseconds) -> None:
        """Let those take part again whose cap has opened."""
        closed = self._closed
        while closed and closed[0][0] <= now:
            _, _, node = heappop(closed)
            node.blocked = False
            if node.has_packet:
                self._make_ready(node, now)

    def next_opening(self) -> Nanoseconds | None:
        """When the next closed cap opens."""
        return self._closed[0][0] if self._closed else None

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The packet to send next; None when no queue can send. `open_caps` comes first."""
        root = self.root
        while root.ready_children:
            node: Node = root
            while isinstance(node, Parent):
                node = node.next_child(now)
            assert isinstance(node, Leaf)
            queue = node.queue
            packet = queue.dequeue(now)
            more = queue.length > 0
            # From the leaf up: charge the packet to each queue that it passed, and take out who cannot send on.
            while (parent := node.parent) is not None:
                if packet is not None:
                    _charge(node, packet.size, now)
                if not more or node.cap_clock > now:
                    node.ready = False
                    parent.ready_children -= 1
                    if more:
                        node.blocked = True
                        heappush(self._closed, (node.cap_clock, node.order, node))
                node, more = parent, parent.ready_children > 0
            if packet is not None:
                return packet
        return None


def _charge(node: Node, size: Size, now: Nanoseconds) -> None:
    """Count a packet that a queue sent: in the turns of its band, or else toward its guarantee; and against its cap."""
    node.sent_bytes += size
    band = node.turn
    if band is not None:
        band.virtual = node.start
        node.start += size / node.weight
    else:
        behind = now - BUSY_CREDIT
        node.due = (node.due if node.due > behind else behind) + size * BYTE_TIME // node.guarantee
    if node.cap:
        behind = now - node.cap_burst
        node.cap_clock = (node.cap_clock if node.cap_clock > behind else behind) + size * BYTE_TIME // node.cap

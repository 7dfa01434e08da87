"""The tree of queues of one line in one direction: which leaf is next.

Leaves with a promised delay are first, by deadline, under any parent (`service_curve`). Otherwise every parent from the
root down makes the same choice as the exact split, packet by packet:

1. A child that is behind on its guarantee is first; among several, the one furthest behind.
2. Otherwise the children take turns in order of priority, and within a priority by weight: start-time fair queueing
   (Goyal, Vin, Cheng 1996), where a child's start tag advances by size / weight for each packet.

At a weighted parent, a packet sent by (1) counts toward the guarantee only, one sent by (2) toward the turn only. A
child thus gets its guarantee and its share of the rest. At a curve parent, turns count everything that a child sends,
so a child whose guarantee gave it more than its share waits for its turn. Children of a strict parent have no
guarantees. Guarantees and caps are virtual clocks that each packet advances by its time at that rate. A guarantee is
due, and a cap is open, if its clock is not ahead of now.

`node` keeps the position of a child in its parent's heaps. A packet costs a few heap steps per level, for any number of
queues.

Invariants: a leaf's packets leave in the order of its queue; the tree is never idle while a leaf with open caps has a
packet; a cap passes at most cap x t + its burst + one packet over any window of t, where the burst is CAP_BURST_TIME at
the cap, plus the bursts of promised leaves below.
"""

from collections.abc import Callable
from heapq import heappop, heappush
from operator import attrgetter
from typing import TYPE_CHECKING

from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.leaf_queue import LeafQueue
from wily_sluice.engine.queueing.node import Leaf, Node, Parent, charge
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.units import Nanoseconds

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.flow_path import FlowPath


class RealTime:
    """The leaves with a promise and a packet: by eligible time, and eligible ones by deadline.

    `due_key` of a leaf is its time in one of the two heaps, None if it has no packet. An entry with another time is
    outdated and is discarded at the top.
    """

    __slots__ = ("_due", "_waiting")

    def __init__(self) -> None:
        self._waiting: list[tuple[Nanoseconds, int, Leaf]] = []
        self._due: list[tuple[Nanoseconds, int, Leaf]] = []

    def place(self, leaf: Leaf) -> None:
        """Put a leaf where it belongs, after it became busy, or a packet was sent for its promise, or it ran empty."""
        promise = leaf.promise
        assert promise is not None
        if leaf.head is None:
            leaf.due_key = None
        else:
            leaf.is_due = False
            leaf.due_key = promise.eligible
            heappush(self._waiting, (leaf.due_key, leaf.order, leaf))

    def head_changed(self, leaf: Leaf) -> None:
        """Put a leaf right after a packet was sent that was not for its promise."""
        if leaf.head is None:
            leaf.due_key = None
        elif leaf.is_due:
            promise = leaf.promise
            assert promise is not None
            deadline = promise.deadline(leaf.head.size)
            if deadline != leaf.due_key:
                leaf.due_key = deadline
                heappush(self._due, (deadline, leaf.order, leaf))

    def next_leaf(self, now: Nanoseconds) -> Leaf | None:
        """The leaf with the earliest deadline among those that are eligible now."""
        waiting, due = self._waiting, self._due
        while waiting and waiting[0][0] <= now:
            key, _, leaf = heappop(waiting)
            if key == leaf.due_key and not leaf.is_due:
                promise, head = leaf.promise, leaf.head
                assert promise is not None
                assert head is not None
                leaf.is_due = True
                leaf.due_key = promise.deadline(head.size)
                heappush(due, (leaf.due_key, leaf.order, leaf))
        while due:
            key, _, leaf = due[0]
            if key == leaf.due_key and leaf.is_due:
                return leaf
            heappop(due)
        return None

    def next_eligible(self) -> Nanoseconds | None:
        """When the next leaf is eligible, at the latest; a leaf that is eligible now counts as long past."""
        if self._due:
            return 0
        return self._waiting[0][0] if self._waiting else None


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
        self._real_time: RealTime | None = None  # if a leaf has a promise
        self.leaves: list[Leaf] = []
        self.nodes: list[Node] = []
        self.root = self._grow_parent(spec, None, {})

    def reshape(self, other: "Tree", spec: QueueSpec, now: Nanoseconds) -> list[Packet]:
        """Take another shape: `spec`, with leaf queues like those of `other`, a new tree for it.

        Queues with the same path keep their counters, and leaves their packets. Packets of other leaves are returned.
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
                    leaf.tally.move(packet.length, now)
                    packets.append(packet)
        packets.sort(key=attrgetter("entered"))
        for leaf in self.leaves:
            if leaf.promise is not None and leaf.head is not None:
                assert self._real_time is not None
                self._real_time.place(leaf)
            if leaf.has_packet:
                self._make_ready(leaf, now)
        return packets

    def retune(self, spec: QueueSpec, now: Nanoseconds) -> None:
        """Go on with the rates of `spec`, a specification of the same queues."""
        self._now = now
        specs = {part.path: part for part in spec.walk()}
        for node in self.nodes:  # parents before children, whose caps depend on theirs
            node.retune(specs[node.path], now)
            if isinstance(node, Leaf) and node.promise is not None and self._real_time is not None:
                self._real_time.place(node)

    def dissolve(self) -> None:
        """Break the cycles of objects, so that no garbage collector is needed."""
        for node in self.nodes:
            node.parent = None
            if isinstance(node, Parent):
                node.children.clear()
        self._clear()

    def _clear(self) -> None:
        """Drop all queues. A separate method: code after an assignment of None is compiled as if it stayed None."""
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
        assert packet.flow_path is not None
        leaf = packet.flow_path.leaf
        assert isinstance(leaf, Leaf)
        leaf.tally.lose(packet.length, self._now)
        if packet.tally is not None:
            packet.tally.lose(packet.length, self._now)
        node: Node | None = leaf
        while node is not None:
            node.drops += 1
            node = node.parent
        self._drop(packet)

    @property
    def active(self) -> bool:
        """Whether a packet is queued that no cap holds back."""
        return self.root.ready_children > 0

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Put a packet whose flow path is set into its leaf."""
        assert packet.flow_path is not None
        leaf = packet.flow_path.leaf
        assert isinstance(leaf, Leaf)
        self._now = now
        leaf.tally.enter(packet.length, now)
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

    def withdraw(self, flow_path: "FlowPath", now: Nanoseconds) -> list[Packet]:
        """Take out a flow path's packets, in their order."""
        leaf = flow_path.leaf
        assert isinstance(leaf, Leaf)
        self._now = now
        packets = leaf.queue.withdraw(flow_path)
        head = leaf.head
        if head is not None and head.flow_path is flow_path:
            packets.insert(0, head)
            leaf.head = None
            if leaf.promise is not None and self._real_time is not None:
                leaf.head = leaf.queue.dequeue(now)
                self._real_time.place(leaf)
        for packet in packets:
            leaf.tally.move(packet.length, now)
        return packets

    def _make_ready(self, first: Node, now: Nanoseconds) -> None:
        """Activate `first`, which has a packet, and its parents, where it is their first."""
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
        """Reactivate queues whose cap has opened."""
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
                leaf.tally.leave(packet.length, packet.marked, now, now - packet.entered)
                return packet

    def _take(self, leaf: Leaf, now: Nanoseconds, promised: bool) -> Packet | None:
        """The leaf's next packet; its promise is updated."""
        promise = leaf.promise
        if promise is None:
            if leaf.head is None:
                return leaf.queue.dequeue(now)
            kept, leaf.head = leaf.head, None  # it had a promise once
            return kept
        real_time = self._real_time
        assert real_time is not None
        packet, leaf.head = leaf.head, leaf.queue.dequeue(now)
        if packet is None:  # its packets were moved elsewhere
            return None
        if promised:
            promise.charge(packet.size, now)
            real_time.place(leaf)
        else:
            real_time.head_changed(leaf)
        return packet

    def _account(self, leaf: Leaf, packet: Packet | None, now: Nanoseconds, promised: bool) -> None:
        """From the leaf up: charge the packet to each queue, and deactivate those that cannot send more."""
        node: Node = leaf
        more = leaf.has_packet
        while (parent := node.parent) is not None:
            if packet is not None:
                charge(node, parent, packet, now, promised)
            if not more or node.cap_clock > now:
                if node.ready:
                    node.ready = False
                    parent.ready_children -= 1
                if more and not node.blocked:
                    node.blocked = True
                    heappush(self._closed, (node.cap_clock, node.order, node))
            node, more = parent, parent.ready_children > 0

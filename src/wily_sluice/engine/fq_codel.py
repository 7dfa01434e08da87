"""FQ-CoDel: every conversation has a CoDel queue of its own, and the queues take turns by bytes.

Source: RFC 8290 (§4; deficit round robin over new and old flows). A conversation that sends less than its turn is
always new, so it never waits behind one that sends more. Where the RFC hashes conversations into 1,024 queues, each
has its own here, so that two never share by accident; what is idle is forgotten.

When the limit is passed, the fattest conversation loses from its head (§4.1.2). It is found without a search: a
conversation whose backlog reaches 2 kB, 4 kB, 8 kB and so on is noted at that level, and whoever stands at the highest
level is within a factor of two of the fattest. One that has shrunk is put right when it is looked at, which its growth
has paid for.

Invariants: the order within a conversation is kept; each packet is returned or handed to `drop`, once; `backlog` and
`length` are the bytes and packets that stand here; the work per packet does not depend on how many conversations
there are.
"""

from collections import deque
from collections.abc import Callable

from wily_sluice.engine.codel import INTERVAL, TARGET, CodelQueue
from wily_sluice.engine.conversation import Conversation
from wily_sluice.engine.framing import LONGEST_FRAME
from wily_sluice.engine.packet import Packet
from wily_sluice.units import Nanoseconds, Size

QUANTUM: Size = LONGEST_FRAME
MOST_PACKETS = 10_240  # RFC 8290 §5.2.1
DROP_BATCH = 64  # RFC 8290 §4.1.2: at most this many from the fattest flow at once
FIRST_LEVEL: Size = 2048  # bytes of one conversation's backlog
FEW_IDLE = 64  # flows that may stand empty before anybody looks which of them can be forgotten


class Flow(CodelQueue):
    """One conversation's queue. `listed` says that it stands among the new or the old flows.

    `level` is the highest that its backlog has been noted at, -1 for none; at `grown` bytes it reaches the next.
    """

    __slots__ = ("deficit", "grown", "level", "listed")

    def __init__(self, target: Nanoseconds, interval: Nanoseconds) -> None:
        super().__init__(target, interval)
        self.deficit = 0
        self.listed = False
        self.level = -1
        self.grown: Size = FIRST_LEVEL


class FqCodel:
    """A leaf queue in which conversations take turns. `limit` is in bytes, `most` in packets."""

    __slots__ = (
        "_drop",
        "_flows",
        "_interval",
        "_levels",
        "_new",
        "_old",
        "_sweep_at",
        "_target",
        "backlog",
        "length",
        "limit",
        "most",
    )

    def __init__(
        self,
        drop: Callable[[Packet], None],
        limit: Size = MOST_PACKETS * LONGEST_FRAME,
        most: int = MOST_PACKETS,
        target: Nanoseconds = TARGET,
        interval: Nanoseconds = INTERVAL,
    ) -> None:
        self._drop = drop
        self._flows: dict[Conversation, Flow] = {}
        self._new: deque[Flow] = deque()
        self._old: deque[Flow] = deque()
        self._levels: list[dict[Flow, None]] = []
        self._sweep_at = FEW_IDLE  # doubles with what a sweep leaves, so that sweeps cost little a packet
        self._target = target
        self._interval = interval
        self.limit = limit
        self.most = most
        self.backlog: Size = 0
        self.length = 0

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in; when the limit is passed, the fattest conversation loses from its head."""
        flow = self._flows.get(packet.conversation)
        if flow is None:
            if len(self._flows) >= self._sweep_at:
                self._forget_idle(now)
            flow = self._flows[packet.conversation] = Flow(self._target, self._interval)
        flow.enqueue(packet, now)
        if not flow.listed:
            flow.listed = True
            flow.deficit = QUANTUM
            self._new.append(flow)
        if flow.backlog >= flow.grown:
            self._note(flow)
        self.backlog += packet.size
        self.length += 1
        if self.backlog > self.limit or self.length > self.most:
            self._drop_from(self._fattest() or flow)

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The next packet to send; None when nothing stands here, or CoDel dropped the last of it."""
        while flows := self._new or self._old:
            flow = flows[0]
            if flow.deficit <= 0:
                flow.deficit += QUANTUM
                flows.popleft()
                self._old.append(flow)
                continue
            packet = flow.dequeue(now, self._dropped)
            if packet is None:
                flows.popleft()
                # A new flow that runs empty passes once through the old ones, so that it cannot come back as new at
                # every turn and starve them (§4.2).
                if flows is self._new and self._old:
                    self._old.append(flow)
                else:
                    flow.listed = False
                continue
            flow.deficit -= packet.size
            self.backlog -= packet.size
            self.length -= 1
            return packet
        return None

    def _dropped(self, packet: Packet) -> None:
        self.backlog -= packet.size
        self.length -= 1
        self._drop(packet)

    def _note(self, flow: Flow) -> None:
        """Put a flow at the level of its backlog."""
        if flow.level >= 0:
            del self._levels[flow.level][flow]
        flow.level = (flow.backlog // FIRST_LEVEL).bit_length() - 1
        flow.grown = FIRST_LEVEL << (flow.level + 1)
        if flow.level >= 0:
            while len(self._levels) <= flow.level:
                self._levels.append({})
            self._levels[flow.level][flow] = None

    def _fattest(self) -> Flow | None:
        """A flow with at least half the backlog of the fattest; None when all have less than the first level."""
        while self._levels:
            if not self._levels[-1]:
                self._levels.pop()
                continue
            flow = next(iter(self._levels[-1]))
            if flow.backlog >= FIRST_LEVEL << flow.level:
                return flow
            self._note(flow)
        return None

    def _drop_from(self, flow: Flow) -> None:
        for _ in range(max(1, min(DROP_BATCH, len(flow.packets) // 2))):
            packet = flow.packets.popleft()
            flow.backlog -= packet.size
            self._dropped(packet)

    def _forget_idle(self, now: Nanoseconds) -> None:
        """Forget flows that stand empty and whose CoDel state no longer matters (RFC 8289 §5.4: 16 intervals)."""
        for conversation, flow in list(self._flows.items()):
            if not flow.listed and not (flow.count and now - flow.drop_next < 16 * self._interval):
                del self._flows[conversation]
                if flow.level >= 0:
                    del self._levels[flow.level][flow]
        self._sweep_at = 2 * len(self._flows) + FEW_IDLE

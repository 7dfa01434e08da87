"""FQ-CoDel: one CoDel queue for each conversation, with turns by bytes.

Source: RFC 8290 (§4). The RFC hashes conversations into 1,024 queues; here each has its own, stored with the
conversation and forgotten with it, so that there are no collisions. With `fair-by: host`, hosts take turns first, and
within a host its conversations do. A host with a hundred conversations gets the same as a host with one.

If the limit is exceeded, the fattest conversation, or that of the fattest host, loses packets from its head (§4.1.2).

Invariants: the order within a conversation is kept; each packet is returned or handed to `drop`, once; the work per
packet does not depend on the number of conversations or hosts.
"""

from collections.abc import Callable
from operator import attrgetter
from typing import TYPE_CHECKING, Final

from wily_sluice.engine.packet import LONGEST_FRAME, Packet
from wily_sluice.engine.queueing.codel import INTERVAL, TARGET, CodelQueue
from wily_sluice.engine.queueing.drr import Drr
from wily_sluice.engine.queueing.leaf_queue import LeafQueue
from wily_sluice.units import Nanoseconds, Size

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.flow_path import FlowPath

MOST_PACKETS: Final = 10_240  # RFC 8290 §5.2.1
DROP_BATCH: Final = 64  # RFC 8290 §4.1.2: at most this many from the fattest flow at once
FEW_IDLE: Final = 64  # hosts that may stand empty before anybody looks which of them can be forgotten


class Flow(CodelQueue):
    """One conversation's queue in `home`, in the turns of `among`: all of home's, or those of its host."""

    __slots__ = ("among", "home")

    def __init__(self, home: "FqCodel", among: Drr) -> None:
        super().__init__(home.target, home.interval, home.ecn, home.largest)
        self.home = home
        self.among = among

    def shed(self, drop: Callable[[Packet], None]) -> None:
        """Drop half of the packets from the head, at most a batch."""
        for _ in range(max(1, min(DROP_BATCH, self.length // 2))):
            packet = self.take()
            if packet is None:
                return
            drop(packet)


class FqCodel(LeafQueue):
    """A leaf queue in which conversations take turns, or hosts and within them conversations."""

    __slots__ = ("_all", "_hosts", "_sweep_at", "ecn", "interval", "largest", "target")

    def __init__(
        self,
        drop: Callable[[Packet], None],
        limit: Size = MOST_PACKETS * LONGEST_FRAME,
        packet_limit: int = MOST_PACKETS,
        target: Nanoseconds = TARGET,
        interval: Nanoseconds = INTERVAL,
        by_host: bool = False,
        ecn: bool = True,
        largest: Size = LONGEST_FRAME,
    ) -> None:
        super().__init__(drop, limit, packet_limit)
        self.largest = largest
        self.target = target
        self.interval = interval
        self.ecn = ecn
        self._all = Drr()
        self._hosts: dict[bytes, Drr] | None = {} if by_host else None
        self._sweep_at = FEW_IDLE  # doubles with what a sweep leaves, so that sweeps cost little a packet

    def enqueue(self, packet: Packet, now: Nanoseconds) -> None:
        """Take a packet in; when the limit is passed, the fattest conversation loses from its head."""
        flow_path = packet.flow_path
        assert flow_path is not None
        flow = flow_path.flow_at(packet.stage)
        if not isinstance(flow, Flow) or flow.home is not self:
            flow = Flow(self, self._all)
            flow_path.set_flow(packet.stage, flow)
        if self._hosts is not None and not flow.listed:
            flow.among = self._host(self._hosts, flow_path.tally.host)
        flow.target, flow.ecn, flow.largest = self.target, self.ecn, self.largest  # which may have changed since
        flow.enqueue(packet, now)
        flow.among.arrived(flow, packet.size)
        if flow.among is not self._all:
            self._all.arrived(flow.among, packet.size)
        if self._all.backlog > self.limit or self._all.length > self.packet_limit:
            self._all.shed(self._drop)
        self.backlog, self.length = self._all.backlog, self._all.length

    def dequeue(self, now: Nanoseconds) -> Packet | None:
        """The next packet to send; None if the queue is empty, or CoDel dropped the last packet."""
        packet = self._all.dequeue(now, self._drop)
        self.backlog, self.length = self._all.backlog, self._all.length
        return packet

    def reconfigure(self, other: LeafQueue) -> bool:
        """Take on its limits and target."""
        if not isinstance(other, FqCodel) or (other._hosts is None) != (self._hosts is None):
            return False
        self.limit, self.packet_limit, self.target, self.ecn = other.limit, other.packet_limit, other.target, other.ecn
        self.largest = other.largest
        return True

    def withdraw(self, flow_path: "FlowPath") -> list[Packet]:
        """Remove the packets of a flow_path."""
        return self.withdraw_flow(flow_path.flow)

    def withdraw_flow(self, flow: object | None) -> list[Packet]:
        """Remove a conversation's queue, if it belongs to this leaf."""
        if not isinstance(flow, Flow) or flow.home is not self or not flow.length:
            return []
        backlog, length = flow.backlog, flow.length
        packets = flow.drain()
        flow.among.lost(backlog, length)
        if flow.among is not self._all:
            self._all.lost(backlog, length)
        self.backlog, self.length = self._all.backlog, self._all.length
        return packets

    def drain(self) -> list[Packet]:
        """Take out everything."""
        packets = self._all.drain()
        self.backlog = self.length = 0
        packets.sort(key=attrgetter("entered"))
        return packets

    def dissolve(self) -> None:
        """Release all conversations and hosts."""
        self._all.dissolve()
        if self._hosts is not None:
            for host in self._hosts.values():
                host.dissolve()
            self._hosts.clear()

    def _host(self, hosts: dict[bytes, Drr], address: bytes) -> Drr:
        """The conversations of a host. A host whose queues are all empty may be forgotten and created again."""
        host = hosts.get(address)
        if host is None:
            if len(hosts) >= self._sweep_at:
                for idle in [host for host, turns in hosts.items() if not turns.listed]:
                    del hosts[idle]
                self._sweep_at = 2 * len(hosts) + FEW_IDLE
            host = hosts[address] = Drr()
        return host

"""Limits of a flood: a budget of time for recognition, and a bounded queue of packets that open conversations.

A time budget for recognition, so that a flood of costly packets does not delay others.

A bucket of nanoseconds that fills at SHARE of the time, up to MOST, and is charged the time of each examination. While
it is empty, conversations stay unknown; they are examined once there is time again.

A bounded queue of packets that open conversations faster than they can be processed.

Reading a packet costs little; opening a conversation, or sorting its stand-in, costs several times as much. So all
packets are read, and some are processed in each turn. The others wait in one of SLOTS queues, which take turns, so that
a flooding device delays no other. The queue is that of the sending device where its hardware address is known, whatever
source addresses it writes, and otherwise that of the local address; beyond SLOTS senders, some share one. A queue has
at most A_SHARE packets; once half of MOST_WAITING wait, its part of these, but A_LITTLE always. The excess is
dropped: if it bypassed the gate, it would break its caps.
"""

from collections import deque
from typing import Final

from wily_sluice.gate.kernel.packet_queue import QueuedPacket
from wily_sluice.units import MILLISECOND, Nanoseconds

SHARE: Final = 5  # one part of so many
MOST: Final[Nanoseconds] = 20 * MILLISECOND


class Budget:
    """Of one gate. `refused` counts packets that were not looked at."""

    __slots__ = ("_at", "_left", "refused")

    def __init__(self) -> None:
        self._left: Nanoseconds = MOST
        self._at: Nanoseconds = 0
        self.refused = 0

    def allows(self, now: Nanoseconds) -> bool:
        """Whether anything is left."""
        left = self._left + (now - self._at) // SHARE
        self._left = left if left < MOST else MOST
        self._at = now
        if self._left > 0:
            return True
        self.refused += 1
        return False

    def spend(self, lasted: Nanoseconds) -> None:
        """Charge the time of an examination."""
        self._left -= lasted


MOST_WAITING: Final = 2048  # packets, of one way
A_SHARE, A_LITTLE = 512, 8
SLOTS: Final = 256


class NewFlows:
    """For one way; `up` says that the sender is the local party. `shed` counts the dropped packets."""

    __slots__ = (
        "_crowded", "_entered", "_free", "_keys", "_owners", "_queues", "_slots", "_taken", "_turns", "_up", "shed",
        "waiting",
    )  # fmt: skip

    def __init__(self, up: bool) -> None:
        self._up = up
        self._queues: list[deque[tuple[QueuedPacket, bytes]]] = [deque() for _ in range(SLOTS)]
        self._turns: deque[int] = deque()  # of queues that are not empty
        self._slots: dict[bytes, int] = {}  # by senders
        self._owners: list[bytes] = [b""] * SLOTS
        self._free: deque[int] = deque(range(SLOTS))
        self._crowded = False  # whether senders share a queue
        self._keys: dict[bytes, int] = {}
        self._entered = [0] * SLOTS
        self._taken = [0] * SLOTS
        self.waiting = 0
        self.shed = 0

    def __contains__(self, key: object) -> bool:
        """Whether packets of this conversation wait here."""
        return key in self._keys

    def _sender(self, diverted: QueuedPacket) -> bytes:
        """Whose queue a packet belongs to."""
        if self._up and diverted.hardware:
            return diverted.hardware
        header = diverted.header
        if not header or header[0] >> 4 == 4:
            return header[12:16] if self._up else header[16:20]
        return header[8:24] if self._up else header[24:40]

    def _shared(self, sender: bytes) -> int:
        """The queue of a sender without one of its own."""
        return hash(sender) % SLOTS

    def ticket(self, diverted: QueuedPacket) -> int:
        """What says, later, whether all packets of the same sender that wait now have been taken."""
        sender = self._sender(diverted)
        slot = self._slots.get(sender, -1)
        if slot < 0:
            if not self._crowded:
                return 0
            slot = self._shared(sender)
        return self._entered[slot] * SLOTS + slot

    def is_called(self, ticket: int) -> bool:
        """Whether they have."""
        return self._taken[ticket % SLOTS] >= ticket // SLOTS

    def _slot_for(self, sender: bytes) -> int:
        slot = self._slots.get(sender, -1)
        if slot >= 0:
            return slot
        if not self._free:
            self._crowded = True
            return self._shared(sender)
        slot = self._free.popleft()
        self._slots[sender], self._owners[slot] = slot, sender
        return slot

    def put(self, diverted: QueuedPacket, key: bytes) -> bool:
        """Queue a packet, or drop it and return False. `key` is its conversation's, or empty if not needed."""
        slot = self._slot_for(self._sender(diverted))
        queue = self._queues[slot]
        share = A_SHARE
        if self.waiting >= MOST_WAITING // 2:
            share = min(share, max(A_LITTLE, MOST_WAITING // (len(self._turns) + 1)))
        if len(queue) >= share:
            self.shed += 1
            diverted.queue.drop(diverted.token)
            return False
        if not queue:
            self._turns.append(slot)
        if key:
            self._keys[key] = self._keys.get(key, 0) + 1
        queue.append((diverted, key))
        self._entered[slot] += 1
        self.waiting += 1
        return True

    def take(self) -> QueuedPacket:
        """The first packet of the queue whose turn it is. IndexError when nothing waits."""
        slot = self._turns.popleft()
        queue = self._queues[slot]
        diverted, key = queue.popleft()
        if queue:
            self._turns.append(slot)
        else:
            del self._slots[self._owners[slot]]
            self._free.append(slot)
        self._taken[slot] += 1
        self.waiting -= 1
        if not self.waiting:
            self._crowded = False
        if key:
            left = self._keys[key] - 1
            if left:
                self._keys[key] = left
            else:
                del self._keys[key]
        return diverted

    def drop_all(self) -> None:
        """Drop all waiting packets."""
        while self.waiting:
            diverted = self.take()
            diverted.queue.drop(diverted.token)
            self.shed += 1

"""A machine whose kernel is a few lines of ours: what a gate asks of it, and packets in netlink messages."""

import gc
import os
import signal
import socket
import struct
import sys
import tempfile
import threading
from collections.abc import Callable, Set
from typing import Any

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.gate.gate import Gate
from wily_sluice.gate.kernel.diversion import ChainState
from wily_sluice.gate.kernel.machine import Crossed, Machine, TableNews, Tracking
from wily_sluice.gate.kernel.packet_queue import MSG_PACKET, MSG_VERDICT, NLM_F_ACK, NLMSG_ERROR, PacketQueue
from wily_sluice.gate.observers import CounterRow


def udp(local: str, remote: str, local_port: int, remote_port: int, payload: int = 100, back: bool = False) -> bytes:
    """A packet from the local party, or back to it."""
    ends = [(socket.inet_aton(local), local_port), (socket.inet_aton(remote), remote_port)]
    (source, source_port), (target, target_port) = reversed(ends) if back else ends
    head = struct.pack(">BBHHHBBH4s4s", 0x45, 0, 28 + payload, 1, 0, 64, 17, 0, source, target)
    return head + struct.pack(">HHHH", source_port, target_port, 8 + payload, 0) + bytes(payload)


def attribute(kind: int, value: bytes) -> bytes:
    return struct.pack("=HH", 4 + len(value), kind) + value + bytes(-len(value) % 4)


class Queue:
    """One of the kernel's queues: `hand_over` packets, and find in `verdicts` what was said of each, in order."""

    def __init__(self) -> None:
        self.end, self.other = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        # A longer message than the kernel would take is refused here too.
        self.end.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 1 << 16)
        self.other.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 8 << 20)
        self.number = 0
        self.waiting: dict[int, bytes] = {}
        self.verdicts: list[tuple[bytes, bool]] = []
        self.over = False
        self._lock = threading.Lock()
        threading.Thread(target=self._answer, daemon=True).start()

    def hand_over(self, packet: bytes, hardware: bytes = b"", inside: int = 2) -> bool:
        """False when it is let past, since too many wait unread or nobody reads any more."""
        with self._lock:
            self.number += 1
            body = struct.pack(">BBH", 0, 0, 0) + attribute(1, struct.pack(">IHB", self.number, 0x800, 1))
            body += attribute(5, struct.pack(">I", inside)) + attribute(6, struct.pack(">I", inside))
            body += attribute(99, b"")  # as the kernel may add what nobody here knows
            if hardware:
                body += attribute(9, struct.pack(">HH", len(hardware), 0) + hardware + bytes(2))
            body += attribute(10, packet[:2048])
            self.waiting[self.number] = packet
            try:
                self.other.send(struct.pack("=IHHII", 16 + len(body), MSG_PACKET, 0, 0, 0) + body, socket.MSG_DONTWAIT)
            except (BlockingIOError, BrokenPipeError):
                del self.waiting[self.number]
                return False
        return True

    def _answer(self) -> None:
        while said := self.other.recv(1 << 17):
            while len(said) >= 20:
                length, kind, flags = struct.unpack_from("=IHH", said)
                if kind == MSG_VERDICT:
                    verdict, number = struct.unpack_from(">II", said, 24)
                    with self._lock:
                        self.verdicts.append((self.waiting.pop(number, b""), verdict == 1))
                if flags & NLM_F_ACK:
                    self.other.send(struct.pack("=IHHII", 36, NLMSG_ERROR, 0, 0, 0) + bytes(20))
                said = said[length:]
        self.over = True


class FakeMachine(Machine):
    """`counts` says whether it tells first packets from others. `chains` are None while others have flushed them."""

    def __init__(self, counts: bool = True) -> None:
        self.counts = counts
        self.queues: dict[int, Queue] = {}
        self.whole: dict[int, bool] = {}
        self.chains: tuple[str, str] | None = None
        self.repairs = 0
        self.connections = 0
        self.packets = 0
        self.links: list[tuple[bytes, bytes]] = []
        self.present = {"wan0": 1, "lan0": 2, "lan1": 3}

    def require(self) -> None:
        return

    def take_lock(self) -> int:
        return os.open(tempfile.gettempdir(), os.O_RDONLY)

    def become_urgent(self) -> None:
        return

    def open_queue(self, number: int, whole: bool, copied: int, buffer: int, up: bool) -> PacketQueue:
        queue = self.queues[number] = Queue()
        self.whole[number] = whole
        return PacketQueue(number, whole, copied, lambda: queue.end, up=up)

    def can_count(self) -> bool:
        return self.counts

    def can_write(self) -> bool:
        return True

    def put_chains(self, contents: tuple[str, str], first: bool = False) -> None:
        self.chains = contents

    def remove_chains(self) -> None:
        self.chains = None

    def examine_chains(self, contents: tuple[str, str]) -> ChainState:
        return ChainState(() if self.chains == contents else ("all of it",), ())

    def repair_chains(self, contents: tuple[str, str]) -> None:
        self.repairs += 1
        self.chains = contents

    def table_news(self) -> TableNews | None:
        return None

    def route_news(self) -> TableNews | None:
        return None

    def interfaces(self) -> dict[str, int]:
        return self.present

    def near(self, interfaces: Set[str]) -> AddressSet:
        return AddressSet(self.links)

    def crossed(self) -> dict[str, Crossed]:
        return {"wan0": Crossed(self.packets, 0)}

    def ways_out(self) -> set[str]:
        return {"wan0"}

    def leave(self) -> None:
        return

    def tracking(self) -> Tracking | None:
        return Tracking(self.connections, 1000)


class Listening:
    """Takes down what a gate tells."""

    def __init__(self) -> None:
        self.is_ready = threading.Event()
        self.rows: list[CounterRow] = []
        self.ticks = self.largest = 0
        self.events: list[str] = []
        self._never, self._other = socket.socketpair()

    def fileno(self) -> int:
        return self._never.fileno()

    def turn(self) -> None:
        return

    def ready(self) -> None:
        self.is_ready.set()

    def count(self, rows: list[CounterRow]) -> None:
        self.rows += rows
        self.largest = max(self.largest, len(rows))

    def tick(self, lasted: int) -> None:
        self.ticks += 1

    def told(self, interface: str, here: bool) -> None:
        self.events.append(f"{interface} {here}")

    def happened(self, event: str, level: str, **about: Any) -> None:
        self.events.append(event)


def live(gate: Gate, listening: Listening, script: Callable[[], None]) -> None:
    """Run a gate in this process, with a script beside it that plays the world; until that is over."""
    trouble: list[BaseException] = []

    def play() -> None:
        try:
            assert listening.is_ready.wait(10)
            script()
        except BaseException as error:
            trouble.append(error)
        os.kill(os.getpid(), signal.SIGTERM)

    player = threading.Thread(target=play)
    player.start()
    try:
        gate.run(lambda: None)
    finally:
        player.join()
        gc.unfreeze()
        gc.enable()
        sys.setswitchinterval(0.005)
    if trouble:
        raise trouble[0]

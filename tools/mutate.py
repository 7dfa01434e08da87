"""Feeds mutated messages to everything in a gate that reads what others send: `python -m tools.mutate [COUNT] [SEED]`.

Good messages of each kind, some bytes of them changed, doubled, cut or put elsewhere: packets of both versions of IP,
through admission and recognition; netlink messages; lines of JSON-RPC; what the gate's processes say to each other.
Stops at what raises anything that its reader does not promise to raise, and tells at the end how many of each were read,
how long the slowest took, and what stays: memory, and how much the tables hold.
"""

import asyncio
import gc
import resource
import socket
import struct
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from random import Random
from typing import Any

import msgspec

from tests.conftest import SMALL_PLAN
from wily_sluice.control.json_rpc import ApplyParams, LookParams, Method, NoParams, UndoParams, respond
from wily_sluice.control.link.messages import FromGate, Rows, State, Take, Tick, ToGate
from wily_sluice.control.link.messages import Health as GateHealth
from wily_sluice.gate.admission import Admission
from wily_sluice.gate.kernel.packet_queue import MSG_PACKET, PacketQueue, QueuedPacket
from wily_sluice.gate.observers import CounterRow
from wily_sluice.gate.overload import Budget
from wily_sluice.outside.files import load
from wily_sluice.plan.build import build_site
from wily_sluice.plan.file.bundle import Bundle
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.sorting.capture import read as packets_of

CAPTURES = Path(__file__).parent.parent / "tests" / "recognition" / "captures"
ROUNDS_A_TELL = 200_000
A_TICK = 5000  # packets


def mutated(good: bytes, drawn: Random) -> bytes:
    """Some bytes changed, a piece doubled, cut out, or put elsewhere; or nothing like it at all."""
    data = bytearray(good)
    for _ in range(drawn.choice((1, 1, 2, 4, 16))):
        what, at = drawn.randrange(6), drawn.randrange(len(data) + 1)
        if what <= 2 and data:
            data[at % len(data)] = drawn.choice((0, 1, 0x7F, 0x80, 0xFF, drawn.randrange(256)))
        elif what == 3:
            del data[at : at + drawn.randrange(1, 40)]
        elif what == 4:
            data[at:at] = data[at // 2 : at // 2 + drawn.randrange(40)]
        else:
            data[at:at] = drawn.randbytes(drawn.randrange(8))
    return bytes(data[:4096])


class Packets:
    """Through admission, recognition and the shaper, as the gate has them."""

    def __init__(self, queue: PacketQueue) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "plan.yaml"
            file.write_text(SMALL_PLAN.replace("rules:\n", "rules:\n  - {service: [calls, web], queue: calls}\n"))
            self.plan = load(file)
        self.queue = queue
        self.engine = build_site(self.plan, lambda _: None, crowded=True)
        recognition, framing = Recognition(), self.plan.uplinks[0].framing
        self.ways = [
            (Admission(self.engine, recognition, framing, way, True, None, Budget()), self.engine.shapers["line", way])
            for way in ("up", "down")
        ]
        self.now = self.fed = 0
        self.good = [
            captured.packet
            for capture in sorted(CAPTURES.glob("*.pcap"))
            for captured in packets_of(capture)
            if captured.packet
        ]

    def read(self, data: bytes, drawn: Random) -> None:
        admission, shaper = self.ways[drawn.randrange(2)]
        self.now += 200_000
        hardware = drawn.randbytes(6) if drawn.random() < 0.3 else b""
        packet = admission.admit(QueuedPacket(b"id  ", data, 0, 0, hardware, 0, self.queue), self.now)
        shaper.offer(packet, self.now)
        while shaper.release(self.now) is not None:
            pass
        self.engine.conversations.sweep(self.now, 8)
        self.engine.settle(self.now)
        self.fed += 1
        if self.fed % A_TICK == 0:  # as a gate does once a second
            for _, own in self.ways:
                own.collect()


def netlink_messages() -> list[bytes]:
    """As the kernel sends them."""

    def attribute(kind: int, value: bytes) -> bytes:
        return struct.pack("=HH", 4 + len(value), kind) + value + bytes(-len(value) % 4)

    found = []
    for payload in (bytes(40), b"\x45" + bytes(127)):
        body = struct.pack(">BBH", 2, 0, 4100) + attribute(1, struct.pack(">IHB", 7, 0x800, 1))
        body += attribute(5, struct.pack(">I", 3)) + attribute(3, struct.pack(">I", 9))
        body += attribute(9, struct.pack(">HH", 6, 0) + bytes(8)) + attribute(13, struct.pack(">I", 70_000))
        body += attribute(10, payload)
        found.append(struct.pack("=IHHII", 16 + len(body), MSG_PACKET, 0, 0, 0) + body)
    return found


async def _answer(_: Any, __: Any) -> Any:
    return None


def lines() -> tuple[list[bytes], Callable[[bytes], None]]:
    """Lines of JSON-RPC, and what answers them."""
    methods = {
        "plan.apply": Method(ApplyParams, _answer, ""),
        "plan.undo": Method(UndoParams, _answer, ""),
        "classify.look": Method(LookParams, _answer, ""),
        "gate.status": Method(NoParams, _answer, "", watchers=True),
    }
    good = [
        b'{"jsonrpc":"2.0","id":1,"method":"plan.apply","params":{"plan":"c2l0ZQ==","trial":60.5,"files":{"a":"YQ=="}}}',
        b'[{"jsonrpc":"2.0","id":"x","method":"gate.status"},{"jsonrpc":"2.0","method":"plan.undo","params":[3,null]}]',
        b'{"jsonrpc":"2.0","id":2,"method":"classify.look","params":{"protocol":6,"local":"10.7.0.9","local_port":1,'
        b'"remote":"203.0.113.5","remote_port":443}}',
    ]
    loop = asyncio.new_event_loop()

    def read(line: bytes) -> None:
        answer = loop.run_until_complete(respond(line, methods, None))
        assert answer is None or answer.endswith(b"\n")

    return good, read


def messages() -> tuple[list[bytes], Callable[[bytes], None]]:
    """Between the processes, and what decodes them."""
    bundle = Bundle(b"site: x", {"a.csv": b"1"})
    row = CounterRow("flow", "line", "up", (bytes(4), "rule", "web"), 1, 1, 0, 0, 0, 0, 1, (1, 2, 3))
    good = [
        msgspec.msgpack.encode(one)
        for one in (State(3, bundle, None), Rows([row, row]), Tick(1.5, 10**9, GateHealth(), [], [(bytes(4), "a.b")]),
                    Take(1, bundle, 4, None, 10**12))
    ]  # fmt: skip
    decoders = [msgspec.msgpack.Decoder(kind) for kind in (FromGate, ToGate)]

    def read(body: bytes) -> None:
        for decoder in decoders:
            try:
                decoder.decode(body)
            except (msgspec.MsgspecError, ValueError):
                continue

    return good, read


def kinds(drawn: Random) -> Iterator[tuple[str, list[bytes], Callable[[bytes], None], int]]:
    """What there is to feed: its name, good ones, who reads them, and how many of each hundred."""
    end, other = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    for _ in range(2):
        other.send(struct.pack("=IHHII", 36, 2, 0, 0, 0) + bytes(20))
    queue = PacketQueue(4100, connect=lambda: end)
    packets = Packets(queue)
    yield "packets", packets.good, lambda data: packets.read(data, drawn), 60

    def from_kernel(message: bytes) -> None:
        if message:
            other.send(message)
            queue.read(4)

    yield "netlink", netlink_messages(), from_kernel, 20
    good, read = lines()
    yield "JSON-RPC", good, read, 10
    good, read = messages()
    yield "between the processes", good, read, 10


def main(count: str = "1000000", seed: str = "") -> None:
    """Feed so many."""
    number = int(seed) if seed else time.time_ns() & 0xFFFFFFFF
    print(f"drawn by {number}", flush=True)
    drawn = Random(number)
    found = list(kinds(drawn))
    fed, slowest = dict.fromkeys((kind[0] for kind in found), 0), dict.fromkeys((kind[0] for kind in found), 0)
    weights = [weight for *_, weight in found]
    gc.collect()
    gc.freeze()  # so that what is slow is not a search through what stays
    for done in range(1, int(count) + 1):
        name, good, read, _ = drawn.choices(found, weights)[0]
        data = mutated(drawn.choice(good), drawn)
        begun = time.thread_time_ns()
        try:
            read(data)
        except Exception:
            print(f"{name}: {data.hex()}", flush=True)
            raise
        slowest[name] = max(slowest[name], time.thread_time_ns() - begun)
        fed[name] += 1
        if done % ROUNDS_A_TELL == 0 or done == int(count):
            memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
            told = ", ".join(f"{name} {fed[name]:,} (slowest {slowest[name] / 1e6:.1f} ms)" for name in fed)
            print(f"{done:,}: {told}; memory at most {memory} MiB", flush=True)


if __name__ == "__main__":
    main(*sys.argv[1:])

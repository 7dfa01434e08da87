"""What it costs to make the engine's packets of segments of TCP, in one build of the program beside another:
`python -m benchmarks.admission OTHER_PYTHON`, from the project's folder by the interpreter of an environment with the
program; name that of another.

The two take turns in processes of their own, so that both meet the machine's fast and slow moments; the least time of
each counts. Without a name it prints this build's own.
"""

import subprocess
import sys
from time import perf_counter_ns

TURNS = 5
PACKETS = 64_000
ROUNDS = 25
CONVERSATIONS = 50
NEAR, FAR = bytes((10, 61, 0, 12)), bytes((203, 0, 113, 7))


def segment(up: bool, port: int, stamp: int) -> bytes:
    """The headers of a full segment with timestamps, which echoes one that was sent at the same moment."""
    near, far = NEAR, FAR
    ports = port.to_bytes(2) + (443).to_bytes(2) if up else (443).to_bytes(2) + port.to_bytes(2)
    ends = (near + far if up else far + near) + ports
    head = bytes((0x45, 0, 0x05, 0xDC, 0, 0, 0, 0, 64, 6, 0, 0)) + ends
    return head + bytes(8) + b"\x80\x10" + bytes(6) + b"\x01\x01\x08\x0a" + stamp.to_bytes(4) * 2


def own() -> float:
    """Nanoseconds for a packet, by this build."""
    from tests.gate.fakes import Queue
    from wily_sluice import examples
    from wily_sluice.gate.admission import Admission
    from wily_sluice.gate.kernel.packet_queue import PacketQueue, QueuedPacket
    from wily_sluice.outside.files import load
    from wily_sluice.plan.build import build_site

    plan = load(examples.folder() / examples.PLAN)
    queue = Queue()
    whence = PacketQueue(0, connect=lambda: queue.end)
    engine = build_site(plan, lambda _: None)
    framing = plan.uplinks[0].framing
    ways = {up: Admission(engine, None, framing, "up" if up else "down", False) for up in (True, False)}
    packets = []
    for number in range(PACKETS):
        up = number % 3 == 0
        header = segment(up, 40_000 + number % CONVERSATIONS, number // 200)
        packets.append((ways[up], QueuedPacket(b"1234", header, 0, 0, b"", 0, whence)))
    best, now = float("inf"), 0
    for _ in range(ROUNDS):
        begun = perf_counter_ns()
        for admission, diverted in packets:
            admission.admit(diverted, now)
            now += 1000
        best = min(best, (perf_counter_ns() - begun) / PACKETS)
    return best


def main(other: str = "") -> None:
    if not other:
        print(f"{own():.1f}")
        return
    least = dict.fromkeys((other, sys.executable), float("inf"))
    for _ in range(TURNS):
        for python in least:
            command = [python, "-m", "benchmarks.admission"]
            took = float(subprocess.run(command, check=True, capture_output=True, text=True).stdout)
            least[python] = min(least[python], took)
    here, there = least[sys.executable], least[other]
    print(f"the other {there:.0f} ns a packet, this one {here:.0f}: {here / there:.3f}, {here - there:+.0f} ns")


if __name__ == "__main__":
    main(*sys.argv[1:])

"""The simulated line of a rig: holds the packets that its namespace forwards, as a slow line with a deep buffer would.

Run in the line's own namespace, between the links `near` (to the gateway) and `far`:

    python -m wily_sluice.rig.line_program DOWN UP DELAY JITTER BUFFER OVERHEAD MINIMUM CELLS COURSES

in bit/s, nanoseconds and bytes; CELLS is atm, ptm or none. COURSES are JSON: for a direction whose rate changes, times
and rates, which it follows from the moment of a SIGUSR1. It is the engine's `Line` in the gate's own loop. One that
is faster than FAST takes the large packets of offloading uncut, and charges them as when cut, so that it keeps up.
"""

import json
import os
import signal
import sys
import time
from typing import NamedTuple, TypeAlias

from wily_sluice.engine.classify.header import is_ipv6, parse
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.line import Jitter, Line, RateSchedule, VaryingLine, steady
from wily_sluice.engine.packet import LARGEST_PACKET, Cells, Framing, Packet
from wily_sluice.gate.admission import TCP_HEADERS
from wily_sluice.gate.kernel.packet_queue import PacketQueue, QueuedPacket
from wily_sluice.gate.kernel.process import run, run_before_others
from wily_sluice.gate.loop import Datapath, Entrance, Loop
from wily_sluice.units import BYTE_TIME, Direction, Nanoseconds, Rate

Points: TypeAlias = tuple[tuple[Nanoseconds, Rate], ...]

FAST: Rate = 200_000_000
NOBODY = Conversation(bytes(13))  # a line does not tell conversations apart


class Delays(NamedTuple):
    """One way: what every packet takes, and the mean of what comes on top."""

    delay: Nanoseconds
    jitter: Nanoseconds


class End(Entrance):
    """An entrance for packets, each charged its frame, or its frames."""

    def __init__(self, framing: Framing) -> None:
        self._framing = framing

    def admit(self, diverted: QueuedPacket, now: Nanoseconds) -> Packet | None:
        """All that is IP."""
        parsed = parse(diverted.header, True)
        if parsed is None:
            return None
        length = diverted.length or parsed.length
        if length <= LARGEST_PACKET:
            return Packet(self._framing.cost(length), NOBODY, diverted)
        return Packet(self._framing.cost_when_cut(length, TCP_HEADERS[is_ipv6(parsed.key)]), NOBODY, diverted)


def crossing(
    number: int, rate: Rate, delays: Delays, buffer: Nanoseconds, framing: Framing, course: Points
) -> Datapath:
    """One direction of the line. When its queue is full, it drops new packets, as a real line does."""
    queue = PacketQueue(number, whole=rate > FAST)

    def drop(packet: Packet) -> None:
        queue.drop(packet.token.token)

    jitter = Jitter(delays.jitter, f"{os.getpid()} {number}")
    line = Line(rate, delays.delay, rate * buffer // BYTE_TIME, drop, jitter)
    if course:
        line = VaryingLine(steady(course[0][1]), delays.delay, rate * buffer // BYTE_TIME, drop, jitter)
    return Datapath(queue, line, End(framing))


def begin(line: VaryingLine, course: Points) -> None:
    """Follow a course from now on."""
    now = time.monotonic_ns()
    line.course = RateSchedule(((0, course[0][1]), *((now + at, rate) for at, rate in course)))


def main(
    down: Rate,
    up: Rate,
    delays: Delays,
    buffer: Nanoseconds,
    framing: Framing,
    courses: dict[Direction, Points],
) -> None:
    """Divert forwarded packets, and run until stopped."""
    ways: tuple[tuple[int, Rate, Direction], ...] = ((1, up, "up"), (2, down, "down"))
    crossings = [crossing(n, rate, delays, buffer, framing, courses.get(way, ())) for n, rate, way in ways]
    lines = [(datapath.discipline, courses.get(way, ())) for datapath, (_, _, way) in zip(crossings, ways, strict=True)]
    for family in ("iptables", "ip6tables"):
        for number, interface in ((1, "near"), (2, "far")):
            rule = ["-A", "FORWARD", "-i", interface, "-j", "NFQUEUE", "--queue-num", str(number)]
            run([family, "-w", "-t", "mangle", *rule])
    reader, writer = os.pipe()
    os.set_blocking(writer, False)
    signal.set_wakeup_fd(writer)
    loop = Loop(crossings, reader)
    signal.signal(signal.SIGTERM, lambda *_: loop.stop())
    signal.signal(signal.SIGINT, signal.SIG_IGN)

    def begin_all(*_: object) -> None:
        for line, course in lines:
            if isinstance(line, VaryingLine):
                begin(line, course)

    signal.signal(signal.SIGUSR1, begin_all)
    run_before_others()
    print("ready", flush=True)
    loop.run()


if __name__ == "__main__":
    down, up, delay, jitter, buffer, overhead, minimum = map(int, sys.argv[1:8])
    cells: dict[str, Cells | None] = {"atm": "atm", "ptm": "ptm", "none": None}
    courses = {way: tuple((at, rate) for at, rate in points) for way, points in json.loads(sys.argv[9]).items()}
    main(down, up, Delays(delay, jitter), buffer, Framing(overhead, minimum, cells[sys.argv[8]]), courses)

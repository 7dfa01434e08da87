"""A whole measurement of a line: idle, loaded down, up and both ways, with packets of several sizes."""

import asyncio
import socket
import struct
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from wily_sluice.errors import LiveError
from wily_sluice.gauge.delays import Answered, Delays, delays, delays_within, probe
from wily_sluice.gauge.estimates import Estimate, Fit, Sized, buffer_of, estimate, fits, round_trips_a_minute
from wily_sluice.gauge.loads import Course, Far, Load, load
from wily_sluice.gauge.stamp import LENGTH, LONGEST
from wily_sluice.plan.file.framings import stacks
from wily_sluice.units import DIRECTIONS, MILLISECOND, SECOND, Direction, Nanoseconds, Rate, Size

PACE = 50  # test packets a second
IDLE: Nanoseconds = 3 * SECOND
LOADED: Nanoseconds = 10 * SECOND
BOTH: Nanoseconds = 6 * SECOND
SIZED: Nanoseconds = 8 * SECOND  # with small segments
SIZED_SLOW: Nanoseconds = 12 * SECOND  # on a line slower than SLOW, which carries few of them
SLOW: Rate = 3_000_000
DRAINS: Nanoseconds = 2000 * MILLISECOND  # between two loads
AT_LAST: Nanoseconds = 1200 * MILLISECOND  # idle again
# Bytes of data. Cells of ATM show in how much two sizes that are half a cell apart cost: as much, or a whole cell more.
SEGMENTS: tuple[Size, ...] = (112, 136, 216, 536)
MOST_SIZES = 3
MOST_PACKETS = 15_000  # a second: beyond, small packets measure the machines rather than the line
USUAL_CONNECTIONS = 8
MOST_DRIFT = 500_000  # ns in a second, of one clock beside another; more is a clock that was set
IP_MTU_DISCOVER, IPV6_MTU_DISCOVER, PROBE = 10, 23, 3  # linux/in.h, linux/in6.h: set DF, and do not remember
SMALLEST_PACKET, LARGEST_PACKET = 1200, 9000
TEST_PACKET: Size = LENGTH + 28
SMALL_REQUEST: Size = 150  # mean of a small request's packets in one direction, and how many there are
SMALL_PACKETS = 5
Tell = Callable[[str, float], None]


@dataclass(slots=True)
class Way:
    """The results for one direction: data in bit/s; delays beyond the idle line's; round trips a minute under load; the
    buffer in ns. `loaded` are packets during the load. None if not measured.
    """

    load: Load = field(default_factory=Load)
    data: Estimate | None = None
    buffer: float | None = None
    responsiveness: float | None = None
    beside: tuple[tuple[Size, float], ...] = ()
    loaded: Delays | None = None
    both: Estimate | None = None


@dataclass(slots=True)
class Measured:
    """A measurement. `waits` are for a picture: `(time, up, down)` in ns, the last two beyond the idle line's; so are
    `courses`: the direction, the time, the data of a segment, and the segments since.

    `troubles` list the missing figures with reasons; `whole` is false if it was ended early.
    """

    at: Nanoseconds
    host: str
    idle: Delays | None = None
    ways: dict[Direction, Way] = field(default_factory=lambda: {way: Way() for way in DIRECTIONS})
    segment: Size = 1448
    headers: Size = 52
    largest: Size | None = None
    sizes: list[Sized] = field(default_factory=list)
    sized: Direction = "up"
    framings: list[Fit] = field(default_factory=list)
    waits: list[tuple[Nanoseconds, Nanoseconds, Nanoseconds]] = field(default_factory=list)
    phases: list[tuple[str, Nanoseconds, Nanoseconds]] = field(default_factory=list)
    courses: list[tuple[Direction, Nanoseconds, Size, Course]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    troubles: list[str] = field(default_factory=list)
    whole: bool = False
    interrupted: bool = False


class Probing:
    """Test packets in a separate thread, for as long as it lasts."""

    def __init__(self, host: str, port: int, key: bytes) -> None:
        self._about = host, port, key
        self.sent = 0
        self.answers: list[Answered] = []
        self._over = threading.Event()
        self.trouble = ""
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        try:
            self.sent, _ = probe(*self._about, 3600 * SECOND, PACE, over=self._over, into=self.answers)
        except LiveError as error:
            self.trouble = str(error)

    def end(self) -> None:
        """Stop sending, and wait for packets in flight."""
        self._over.set()
        self._thread.join(5)

    def between(self, begin: Nanoseconds, end: Nanoseconds) -> list[Answered]:
        """The packets that were sent in that time."""
        return [answer for answer in self.answers if begin <= answer.packet.sender_at < end]


def measure(
    far: Far, stamp_port: int, tell: Tell, connections: int = USUAL_CONNECTIONS, framing: bool = True
) -> Measured:
    """Measure the line to a far end. LiveError when nothing can be measured at all; an interrupt ends it early."""
    measured = Measured(time.time_ns(), far.host)
    asyncio.run(far.meet())
    probing = Probing(far.host, stamp_port, far.key) if far.key is not None else None
    steps = _Steps(measured, far, probing, tell, connections)
    try:
        steps.idle()
        steps.loaded("down")
        if not far.url:
            steps.loaded("up")
            steps.both()
            if framing:
                steps.sizes()
            steps.largest(stamp_port)
            time.sleep((DRAINS + AT_LAST) / SECOND)
        measured.whole = not measured.troubles
    except FarEndLost:
        measured.troubles.append(f"the rest: {far.host} does not answer any more")
    except KeyboardInterrupt:
        measured.troubles.append("the rest: it was ended early")
        measured.interrupted = True
    finally:
        if probing is not None:
            probing.end()
    steps.waits(time.time_ns())
    for name, way in measured.ways.items():
        way.beside = steps.beside(way.load, name)
    steps.framings()
    measured.notes += far.notes
    if all(way.data is None for way in measured.ways.values()) and measured.idle is None:
        raise LiveError(f"nothing was measured: {'; '.join(measured.troubles)}")
    return measured


class FarEndLost(Exception):
    """A load ended early, and the far end does not answer any more."""


class _Steps:
    def __init__(self, measured: Measured, far: Far, probing: Probing | None, tell: Tell, connections: int) -> None:
        self._measured, self._far, self._probing, self._tell = measured, far, probing, tell
        self._connections = connections
        self._base: tuple[Nanoseconds, tuple[Nanoseconds, Nanoseconds]] | None = None
        self._small: list[tuple[Size, Estimate, Load]] = []

    def idle(self) -> None:
        """The line while nothing of ours goes over it."""
        if self._probing is None:
            return
        self._tell("idle", 0.0)
        begun = time.time_ns()
        time.sleep(IDLE / SECOND)
        ended = time.time_ns()
        time.sleep(0.5)
        self._measured.phases.append(("idle", begun, ended))
        answered = self._probing.between(begun, ended)
        if not answered:
            why = (
                self._probing.trouble or "no test packet came back: the far end has another key, or no UDP goes through"
            )
            self._measured.troubles.append(f"delays: {why}")
            return
        sent = max(round((ended - begun) * PACE / SECOND), len(answered))  # a span may begin and end with a packet
        self._measured.idle = delays(sent, answered)
        self._base = (begun + ended) // 2, _base(answered)

    def loaded(self, way: Direction) -> None:
        """One direction, loaded."""
        self._tell(f"loading {way}", 0.1 if way == "down" else 0.4)
        loaded = self._load((way,), LOADED)[way]
        figures = self._measured.ways[way]
        if loaded.segment:
            self._measured.segment, self._measured.headers = loaded.segment, loaded.headers
        figures.load, figures.data = loaded, estimate(loaded.course, self._measured.segment)
        figures.responsiveness = round_trips_a_minute(loaded.trips)
        if loaded.trouble:
            self._measured.troubles.append(f"{way}: {loaded.trouble}")
        self._measured.phases.append((way, loaded.begun, loaded.ended))
        self._measured.courses.append((way, loaded.begun, self._measured.segment, loaded.course))
        self._drain(loaded)

    def _load(
        self, ways: Sequence[Direction], lasts: Nanoseconds, segment: Size = 0, small: bool = True
    ) -> dict[Direction, Load]:
        return asyncio.run(load(self._far, ways, self._connections, lasts, segment, small))

    def _drain(self, loaded: Load) -> None:
        """Wait until the line has emptied. FarEndLost if the load ended early and the far end does not answer."""
        if loaded.trouble and not asyncio.run(self._far.is_there()):
            raise FarEndLost
        time.sleep(DRAINS / SECOND)

    def beside(self, load: Load, way: Direction) -> tuple[tuple[Size, float], ...]:
        """What else of ours came through in a direction: sizes of IP packets, and how many a second."""
        lasted = max(1, load.ended - load.begun) / SECOND
        delays = delays_within(self._probing.between(load.begun, load.ended)) if self._probing is not None else None
        passed = 0
        if delays is not None:
            passed = delays.answered if way == "down" else delays.sent - (delays.lost_up or 0)
        return (TEST_PACKET, passed / lasted), (SMALL_REQUEST, SMALL_PACKETS * len(load.trips) / lasted)

    def both(self) -> None:
        """Both directions at once: some lines share their capacity."""
        self._tell("loading both ways", 0.65)
        loads = self._load(DIRECTIONS, BOTH, small=False)
        for way, loaded in loads.items():
            self._measured.ways[way].both = estimate(loaded.course, self._measured.segment)
            self._measured.courses.append((way, loaded.begun, self._measured.segment, loaded.course))
        first = next(iter(loads.values()))
        self._measured.phases.append(("both", first.begun, first.ended))
        self._drain(next((loaded for loaded in loads.values() if loaded.trouble), first))

    def sizes(self) -> None:
        """The slower direction with small packets, which reveals the per-packet overhead."""
        rates = {way: figures.data.rate for way, figures in self._measured.ways.items() if figures.data is not None}
        if not rates:
            return
        way = min(rates, key=lambda each: rates[each])
        self._measured.sized = way
        lasts = SIZED if rates[way] > SLOW else SIZED_SLOW
        fitting = [
            segment for segment in SEGMENTS if rates[way] / 8 / (segment + self._measured.headers) <= MOST_PACKETS
        ]
        for number, segment in enumerate((*fitting[:-1][: MOST_SIZES - 1], *fitting[-1:])):
            self._tell(f"with segments of {segment} bytes", 0.75 + 0.06 * number)
            loaded = self._load((way,), lasts, segment, small=False)[way]
            rate = estimate(loaded.course, own := loaded.mean or segment)
            if loaded.trouble:
                self._measured.notes.append(f"with segments of {segment} bytes: {loaded.trouble}")
            if rate is not None and not loaded.trouble:
                self._small.append((own, rate, loaded))
                self._measured.phases.append(("small", loaded.begun, loaded.ended))
                self._measured.courses.append((way, loaded.begun, own, loaded.course))
            self._drain(loaded)
        if not self._small:
            self._measured.notes.append("its framing does not show: machines cannot send small packets as fast")

    def framings(self) -> None:
        """What framings explain the rates with packets of different sizes."""
        way = self._measured.ways[self._measured.sized]
        if way.data is None or not self._small:
            return
        headers = self._measured.headers
        sizes = [Sized(self._measured.segment, headers, way.data.rate, way.beside, way.data.doubt)]
        for own, rate, sample in self._small:
            sizes.append(Sized(own, headers, rate.rate, self.beside(sample, self._measured.sized), rate.doubt))
        self._measured.sizes = sizes
        self._measured.framings = fits(sizes, [(candidate.words, candidate.framing) for candidate in stacks(1)])

    def largest(self, port: int) -> None:
        """The largest packet that goes there and back whole."""
        if self._far.key is None:
            return
        self._tell("the largest packet", 0.95)
        self._measured.largest = largest_packet(self._far.host, port, self._far.key)

    def waits(self, until: Nanoseconds) -> None:
        """Delays in each direction, beyond those of the idle line, from all answers.

        Two clocks only show changes of delay. One may also run faster than the other, by the difference between the
        idle line at the end and at the beginning.
        """
        if self._probing is None or self._base is None:
            return
        answers, (began, first) = self._probing.answers, self._base
        last = self._probing.between(until - AT_LAST, until)
        over, then = (last[len(last) // 2].packet.sender_at, _base(last)) if len(last) >= PACE // 2 else (began, first)
        drift = [(late - early) / max(1, over - began) for early, late in zip(first, then, strict=True)]
        if abs(drift[0]) * SECOND > MOST_DRIFT:
            self._measured.notes.append("a clock was set during the measurement: one-way delays are left out")
            return
        for answer in answers:
            passed = answer.packet.sender_at - began
            ways = [
                round(way - base - slope * passed)
                for way, base, slope in zip(_one_way(answer), first, drift, strict=True)
            ]
            self._measured.waits.append((answer.packet.sender_at, ways[0], ways[1]))
        for way, figures in self._measured.ways.items():
            phase = next((phase for phase in self._measured.phases if phase[0] == way), None)
            if phase is None:
                continue
            begin = phase[1] + (figures.data.ramp if figures.data is not None else 0)
            figures.loaded = delays_within(self._probing.between(begin, phase[2]))
            index = 1 if way == "up" else 2
            figures.buffer = buffer_of(
                [sample[index] for sample in self._measured.waits if begin <= sample[0] < phase[2]]
            )


def _one_way(answered: Answered) -> tuple[Nanoseconds, Nanoseconds]:
    """Up and down; each by two clocks, so that only differences tell something."""
    return answered.packet.received - answered.packet.sender_at, answered.came - answered.packet.at


def _base(answers: list[Answered]) -> tuple[Nanoseconds, Nanoseconds]:
    """The idle line's delay in each direction, with the offset of the clocks."""
    ways = np.array([_one_way(answer) for answer in answers], dtype=np.int64)
    low = np.percentile(ways, 10, axis=0)
    return int(low[0]), int(low[1])


def largest_packet(host: str, port: int, key: bytes) -> Size | None:
    """The largest IP packet that reaches the far end and returns without fragments, in bytes, by bisection; None if
    none does.
    """
    from wily_sluice.gauge.reflector import prepared, receive
    from wily_sluice.gauge.stamp import MalformedError, Sent, read_reflected, sent_packet

    family, _, _, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)[0]
    headers = 48 if family == socket.AF_INET6 else 28
    low, high, best = SMALLEST_PACKET, LARGEST_PACKET, None
    with prepared(family) as end:
        level, option = (
            (socket.IPPROTO_IPV6, IPV6_MTU_DISCOVER)
            if family == socket.AF_INET6
            else (socket.IPPROTO_IP, IP_MTU_DISCOVER)
        )
        end.setsockopt(level, option, PROBE)
        end.connect(address)
        end.settimeout(0.7)

        def passes(size: Size) -> bool:
            for _ in range(2):
                try:
                    end.send(sent_packet(Sent(size, time.time_ns()), key, size - headers))
                    while True:
                        data, _, _, _, _ = receive(end)
                        if read_reflected(data, key).sender_sequence == size and len(data) == size - headers:
                            return True
                except (TimeoutError, OSError, MalformedError, struct.error):
                    continue
            return False

        while low <= high:
            size = (low + high) // 2
            if size - headers < LENGTH or size - headers > LONGEST:
                high = size - 1
            elif passes(size):
                best, low = size, size + 1
            else:
                high = size - 1
    return best

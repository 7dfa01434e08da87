"""Observes conversations over time, for rules that need it.

Behaviour of a conversation: `interactive` or `bulk`, for any protocol.

- Interactive: both sides send small packets steadily. A call or a game sends 20 to 250 packets a second of a few
  hundred bytes, and neither side sends more than four times as many as the other.
- Bulk: one side sends many long packets.
- Neither, for now: everything else, including the load of a page and a film that arrives in pieces.

Judged after 24 packets, and again whenever their number since the last judgement has doubled, later at least once in
512. Each judgement covers the packets since the previous one, so the result can change. Time and memory per packet are
constant.

- Volume, both directions together: the conversation is sorted again when it passes a size in the rules.
- Rate: above R for a time T, in one direction. A virtual queue drained at R must not run empty for T. A burst that
  takes R longer than T counts, and a pause that empties the queue ends it. This is the generic cell rate algorithm
  (ITU-T I.371).
- Behaviour (`behaviour`).

Only observations that the plan needs are made, and the work per packet does not grow with the number of rules: only the
next size is compared, and a plan has at most MOST_RATES different rates.
"""

from bisect import bisect_right
from typing import Final

from wily_sluice.engine.queueing.service_curve import sending_time
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Rate, Size

FIRST_LOOK: Final = 24  # packets
LONGEST_BETWEEN: Final = 512
SMALL_MEAN: Final[Size] = 450  # bytes: the mean packet of an interactive conversation is no larger, in either direction
LARGE_MEAN: Final[Size] = 1000  # bytes: that of a bulk transfer, in its direction, is no smaller
BULK: Final[Size] = 200_000  # bytes: and this much of it in one look
SLOWEST: Final[Nanoseconds] = 100 * MILLISECOND  # from packet to packet, in each direction, if it is interactive
LONGEST_GAP: Final[Nanoseconds] = SECOND  # a conversation that pauses longer is not steady
SHORTEST_LOOK: Final[Nanoseconds] = SECOND  # an exchange of questions and answers may be steady for less


class Behaviour:
    """`shape` is `interactive`, `bulk` or empty."""

    __slots__ = ("_begun", "_bytes", "_last", "_longest", "_packets", "_until", "shape")

    def __init__(self) -> None:
        self.shape = ""
        self._until = FIRST_LOOK
        self._packets = [0, 0]  # up, down
        self._bytes = [0, 0]
        self._begun: Nanoseconds = 0
        self._last: Nanoseconds = 0
        self._longest: Nanoseconds = 0

    def saw(self, up: bool, length: Size, now: Nanoseconds) -> bool:
        """Take note of a packet. True when the conversation has now another shape than before."""
        way = 0 if up else 1
        if self._packets[0] + self._packets[1] == 0:
            self._begun = self._last = now
        self._packets[way] += 1
        self._bytes[way] += length
        if now - self._last > self._longest:
            self._longest = now - self._last
        self._last = now
        seen = self._packets[0] + self._packets[1]
        if seen < self._until or (now - self._begun < SHORTEST_LOOK and self._bytes[0] + self._bytes[1] < BULK):
            return False
        before = self.shape
        self.shape = self._judge(now - self._begun)
        self._until = min(2 * seen, LONGEST_BETWEEN)
        self._packets = [0, 0]
        self._bytes = [0, 0]
        self._longest = 0
        return self.shape != before

    def _judge(self, span: Nanoseconds) -> str:
        packets, sizes = self._packets, self._bytes
        fewer, more = min(packets), max(packets)
        larger = 0 if sizes[0] > sizes[1] else 1
        if sizes[larger] >= BULK and sizes[larger] >= LARGE_MEAN * packets[larger]:
            return "bulk"
        steady = self._longest <= LONGEST_GAP and span <= SLOWEST * fewer
        if steady and more <= 4 * fewer and all(s <= SMALL_MEAN * n for s, n in zip(sizes, packets, strict=True)):
            return "interactive"
        return ""


MOST_RATES: Final = 8
NEVER: Final[Size] = 1 << 62


class WatchSpec:
    """Requirements of the rules: sizes in bytes; rates in bit/s with the time for which they must hold; behaviour."""

    __slots__ = ("behaviour", "rates", "sizes")

    def __init__(
        self,
        sizes: tuple[Size, ...] = (),
        rates: tuple[tuple[Rate, Nanoseconds], ...] = (),
        behaviour: bool = False,
    ) -> None:
        if len(rates) > MOST_RATES:
            raise ValueError(f"at most {MOST_RATES} different rates can be watched, not {len(rates)}")
        self.sizes = tuple(sorted(set(sizes)))
        self.rates = rates
        self.behaviour = behaviour

    def __bool__(self) -> bool:
        return bool(self.sizes or self.rates or self.behaviour)


class Watch:
    """Of one conversation. `moved` is in bytes; `fast` has a bit for each of the rates that holds."""

    __slots__ = ("_behaviour", "_clocks", "_next", "_since", "_spec", "fast", "moved")

    def __init__(self, spec: WatchSpec) -> None:
        self._spec = spec
        self.moved: Size = 0
        self.fast = 0
        self._next: Size = spec.sizes[0] if spec.sizes else NEVER
        self._behaviour: Behaviour | None = Behaviour() if spec.behaviour else None
        # For each rate, up and then down: when the virtual queue runs empty, and since when it has not been.
        self._clocks: list[Nanoseconds] = [0] * (2 * len(spec.rates))
        self._since: list[Nanoseconds] = [0] * (2 * len(spec.rates))

    def reconfigure(self, spec: WatchSpec) -> "Watch":
        """A watch with other requirements and the same history."""
        other = Watch(spec)
        other.moved = self.moved
        index = bisect_right(spec.sizes, self.moved - 1)
        other._next = spec.sizes[index] if index < len(spec.sizes) else NEVER
        if other._behaviour is not None and self._behaviour is not None:
            other._behaviour = self._behaviour
        return other

    @property
    def spec(self) -> WatchSpec:
        """The requirements it was made for."""
        return self._spec

    @property
    def shape(self) -> str:
        """How it behaves; empty while that is open."""
        return self._behaviour.shape if self._behaviour is not None else ""

    def saw(self, up: bool, length: Size, now: Nanoseconds) -> bool:
        """Count a packet. True if the conversation must be sorted again."""
        changed = False
        self.moved += length
        if self.moved > self._next:
            sizes = self._spec.sizes
            index = bisect_right(sizes, self.moved - 1)
            self._next = sizes[index] if index < len(sizes) else NEVER
            changed = True
        if self._clocks and self._judge_rates(up, length, now):
            changed = True
        if self._behaviour is not None and self._behaviour.saw(up, length, now):
            changed = True
        return changed

    def _judge_rates(self, up: bool, length: Size, now: Nanoseconds) -> bool:
        before = self.fast
        fast = 0
        for index, (rate, longest) in enumerate(self._spec.rates):
            for way in (2 * index, 2 * index + 1):
                if self._clocks[way] < now:
                    self._clocks[way] = self._since[way] = now
                if (way & 1) != up:  # even for up
                    self._clocks[way] = min(self._clocks[way] + sending_time(length, rate), now + longest)
                if self._clocks[way] > now and now - self._since[way] >= longest:
                    fast |= 1 << index
        self.fast = fast
        return fast != before

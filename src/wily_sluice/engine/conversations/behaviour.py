"""Behaviour of a conversation: `interactive` or `bulk`, for any protocol.

- Interactive: both sides send small packets steadily. A call or a game sends 20 to 250 packets a second of a few
  hundred bytes, and neither side sends more than four times as many as the other.
- Bulk: one side sends many long packets.
- Neither, for now: everything else, including the load of a page and a film that arrives in pieces.

Judged after 24 packets, and again whenever their number since the last judgement has doubled, later at least once in
512. Each judgement covers the packets since the previous one, so the result can change. Time and memory per packet are
constant.
"""

from typing import Final

from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Size

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

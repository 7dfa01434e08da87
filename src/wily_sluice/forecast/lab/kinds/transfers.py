"""Transfers of so many bytes, once or again and again: a scan that is stored, an update, a backup."""

from typing import Final, NamedTuple

from wily_sluice.forecast.lab.kinds.source import Course, Source
from wily_sluice.forecast.lab.kinds.tcp import Transfer
from wily_sluice.units import SECOND, Nanoseconds, Size

MB: Final = 1_000_000


class Amount(NamedTuple):
    """What a kind transfers if the traffic file says nothing else; these are ours."""

    size: Size
    every: Nanoseconds | None


AMOUNTS: Final = {
    "scan": Amount(40 * MB, 30 * SECOND),
    "update": Amount(400 * MB, None),
    "backup": Amount(2000 * MB, None),
}


class Finite(Source):
    """Transfers of `size` bytes over one connection: one, or one `every` so often, or when the one before is done if
    that is later. `times` are how long those took that ended in the measured time; `open` says that one did not.
    """

    def __init__(self, course: Course, control: str, size: Size, every: Nanoseconds | None) -> None:
        super().__init__(course)
        self._transfer = Transfer(course, control, endless=False)
        self._size = size
        self._every = every
        self._since: Nanoseconds = 0
        self.open = False
        self.times: list[Nanoseconds] = []

    def begin(self, _: object = None) -> None:
        """Begin one."""
        self._since = self._events.now
        if self._since < self._end:
            self.open = True
            self._transfer.give(self._size, self._done)

    def close(self) -> None:
        """End at once."""
        self._transfer.close()
        self._end = 0

    def _done(self) -> None:
        now = self._events.now
        if now >= self._end:
            return
        self.open = False
        if self._meter.counts(now):
            self.times.append(now - self._since)
        if self._every is not None:
            self._events.at(max(now, self._since + self._every), self.begin)

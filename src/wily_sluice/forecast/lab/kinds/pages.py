"""Somebody who reads pages: each is a document, and then the objects that it names, over a connection that stays.

The document and the objects have sizes of lognormal distributions, their number has a Pareto distribution, and reading
takes an exponential time. Source: NGMN Alliance, "Radio Access Performance Evaluation Methodology", version 1.0 (2008),
Annex A, web browsing, which has the form; pages have grown since, so sizes and the number of objects are scaled until a
page has SIZE on average, with OBJECTS objects.
"""

from math import exp, log, sqrt
from typing import Final

from wily_sluice.forecast.lab.kinds.source import Course, Source
from wily_sluice.forecast.lab.kinds.tcp import Transfer
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Size

SIZE: Final = 2_000_000  # bytes of a page, on average
OBJECTS: Final = 40  # of a page, on average
MOST_OBJECTS: Final = 200
SHAPE: Final = 1.5  # of the Pareto distribution of their number
DOCUMENT: Final = 60_000.0  # mean bytes
DOCUMENT_SPREAD: Final = 1.4  # standard deviation by mean
OBJECT_SPREAD: Final = 3.0  # standard deviation by mean of the size of an object
PARSING: Final[Nanoseconds] = 130 * MILLISECOND  # on average, until objects are asked for
READING: Final = 8.0  # seconds on average, until the next page
REQUEST: Final = 400  # bytes
HELLOS: Final = ((40, 40), (500, 4000))  # there and back: of TCP, and of TLS 1.3 (RFC 8446 §2)
THINKING: Final[Nanoseconds] = 20 * MILLISECOND  # of the server


class Pages(Source):
    """One person. `times` are how long pages took to load; `begun` counts those that were asked for."""

    def __init__(self, down: Course, up: Course, control: str, size: Size | None = None) -> None:
        super().__init__(down)
        self._size = (size or SIZE) / SIZE
        self._answers = Transfer(down, control, endless=False)
        self._requests = Transfer(up, endless=False)
        self._since: Nanoseconds = 0
        self._open = 0  # objects under way
        self._hello = 0
        self.begun = 0
        self.times: list[Nanoseconds] = []

    def begin(self, _: object = None) -> None:
        """Connect, and ask for the first page."""
        self._since = self._events.now
        self._greet()

    def close(self) -> None:
        """End at once."""
        self._requests.close()
        self._answers.close()
        self._end = 0

    def _greet(self) -> None:
        if self._hello == len(HELLOS):
            self._page()
        else:
            self._requests.give(HELLOS[self._hello][0], self._greeted)

    def _greeted(self) -> None:
        self._hello += 1
        self._answers.give(HELLOS[self._hello - 1][1], self._greet)

    def _page(self) -> None:
        self.begun += self._meter.counts(self._since)
        self._requests.give(REQUEST, self._asked)

    def _asked(self) -> None:
        self._events.at(self._events.now + THINKING, self._document)

    def _document(self, _: object) -> None:
        self._answers.give(self._draw(DOCUMENT, DOCUMENT_SPREAD), self._parse)

    def _parse(self) -> None:
        self._events.at(self._events.now + round(self._random.expovariate(1.0) * PARSING), self._embed)

    def _embed(self, _: object) -> None:
        least = OBJECTS * (SHAPE - 1) / SHAPE
        many = min(MOST_OBJECTS, round(least * (1 - self._random.random()) ** (-1 / SHAPE)))
        self._open = max(1, many)
        # All requests leave at once, and the answers share the connection (RFC 9113 §5).
        for _ in range(self._open):
            self._requests.give(REQUEST // 4, self._object_asked)

    def _object_asked(self) -> None:
        self._events.at(self._events.now + THINKING, self._object)

    def _object(self, _: object) -> None:
        mean = (SIZE - DOCUMENT) / OBJECTS
        self._answers.give(self._draw(mean, OBJECT_SPREAD), self._loaded)

    def _loaded(self) -> None:
        self._open -= 1
        if self._open:
            return
        now = self._events.now
        if self._meter.counts(self._since):
            self.times.append(now - self._since)
        self._events.at(now + round(self._random.expovariate(1 / READING) * SECOND), self._next)

    def _next(self, _: object) -> None:
        self._since = self._events.now
        if self._since < self._end:
            self._page()

    def _draw(self, mean: float, spread: float) -> Size:
        """A lognormal size with this mean, and a standard deviation of `spread` times the mean."""
        sigma = sqrt(log(1 + spread * spread))
        drawn = exp(log(mean) - sigma * sigma / 2 + sigma * self._random.gauss(0, 1))
        return max(100, min(20_000_000, round(drawn * self._size)))

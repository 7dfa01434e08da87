"""What measurements say of a line: its rate with an interval, its buffer, its framing. Numbers in, numbers out."""

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from wily_sluice.bootstrap import bootstrap
from wily_sluice.engine.packet import Framing
from wily_sluice.units import SECOND, Nanoseconds, Rate, Size

STEP: Nanoseconds = SECOND // 2  # in which bytes are counted
STEADY = 0.95  # of what comes later: from there on, the ramp-up is over
LEAST_STEPS = 8
CONFIDENCE = 0.95
DRAWS = 1000
FULL = 99  # percentile of waits under load, that stands for a full buffer
ALIKE = 0.004  # framings whose rates spread by no more beyond the best are as likely as that


@dataclass(frozen=True, slots=True)
class Estimate:
    """A mean in bit/s, and where it is with a confidence of 95 in a hundred. `steps` are the rates that it is of."""

    rate: float
    low: float
    high: float
    ramp: Nanoseconds
    steps: tuple[float, ...]

    @property
    def doubt(self) -> float:
        """By what part of itself the mean may be off."""
        return (self.high - self.low) / 2 / self.rate if self.rate else 0.0


def estimate(course: Sequence[tuple[Nanoseconds, int, Size]], segment: Size) -> Estimate | None:
    """The rate of a load from its segments over time, without the ramp-up; None if there are too few.

    The interval is by the bootstrap (Efron 1979), over half seconds.
    """
    if len(course) < 2:
        return None
    times = np.array([at for at, *_ in course], dtype=np.float64)
    sizes = np.array([segments for _, segments, _ in course], dtype=np.float64)
    edges = np.arange(times[0], times[-1], STEP)
    if len(edges) < 3:
        return None
    rates = np.diff(np.interp(edges, times, sizes)) * 8 * segment * SECOND / STEP
    begin = ramp_ends(rates.tolist())
    steady = rates[begin:]
    if len(steady) < LEAST_STEPS and len(rates) >= LEAST_STEPS:
        steady = rates[-LEAST_STEPS:]
    low, high = interval(steady.tolist())
    return Estimate(float(steady.mean()), low, high, begin * STEP, tuple(steady.tolist()))


def ramp_ends(rates: Sequence[float]) -> int:
    """The step at which a load is up to speed: close to the mean of all later steps. In the first half, or none."""
    values = np.asarray(rates, dtype=np.float64)
    for step in range(len(values) // 2):
        if values[step] >= STEADY * values[step + 1 :].mean():
            return step
    return 0


def interval(values: Sequence[float]) -> tuple[float, float]:
    """Where the mean is, with CONFIDENCE."""
    data = np.asarray(values, dtype=np.float64)
    if len(data) < 2 or float(np.ptp(data)) == 0:
        return float(data.mean()), float(data.mean())
    return bootstrap((data,), np.mean, DRAWS, CONFIDENCE)


def buffer_of(waits: Sequence[Nanoseconds]) -> float | None:
    """How long a packet waits in a full buffer, from waits beyond the idle line's under load."""
    return float(np.percentile(np.asarray(waits, dtype=np.float64), FULL)) if len(waits) >= LEAST_STEPS else None


def round_trips_a_minute(trips: Sequence[Nanoseconds]) -> float | None:
    """Responsiveness: sequential round trips a minute, from the mean of trips without the slowest twentieth
    (draft-ietf-ippm-responsiveness §4.3.1).
    """
    if len(trips) < 5:
        return None
    kept = np.sort(np.asarray(trips, dtype=np.float64))[: max(1, len(trips) * 95 // 100)]
    return float(60 * SECOND / kept.mean())


class Sized(NamedTuple):
    """A rate of data in bit/s, with this segment size and header size. `beside` is the other traffic on the line: sizes
    of IP packets, and packets a second. `doubt` is the relative error of the rate.
    """

    segment: Size
    headers: Size
    data: float
    beside: tuple[tuple[Size, float], ...] = ()
    doubt: float = 0.0

    def line(self, framing: Framing) -> float:
        """The line's rate in bit/s, if this is its framing."""
        others = sum(8 * framing.cost(size) * rate for size, rate in self.beside)
        return self.data * framing.cost(self.segment + self.headers) / self.segment + others


@dataclass(frozen=True, slots=True)
class Fit:
    """A framing, the line's rate by it, and by how much the rates of different sizes of packets differ then."""

    words: str
    rate: Rate
    spread: float


def fits(measured: Sequence[Sized], framings: Iterable[tuple[str, Framing]]) -> list[Fit]:
    """How well framings explain rates with segments of different sizes. The best is first; those that explain them as
    well, as far as such rates can tell, follow.
    """
    alike = ALIKE + math.hypot(*(sized.doubt for sized in measured))
    candidates = []
    for words, framing in framings:
        rates = [sized.line(framing) for sized in measured]
        mean = sum(rates) / len(rates)
        candidates.append(Fit(words, round(mean), (max(rates) - min(rates)) / mean))
    candidates.sort(key=lambda fit: fit.spread)
    return [fit for fit in candidates if fit.spread <= candidates[0].spread + alike] if candidates else []

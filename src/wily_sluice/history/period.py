"""Everything counted over a period, read in one pass: bytes, waits and drops of each subject, step by step."""

from dataclasses import dataclass, field

from wily_sluice.history.counter_store import SPANS, CounterReader, Resolution, Sample
from wily_sluice.history.counts import Key, Subject
from wily_sluice.units import Nanoseconds, Size


@dataclass(slots=True)
class Series:
    """One subject in one direction: its sum `whole`, and for each step bytes, the p99 of delays in ns, drops, and round
    trips beyond the line in ns, 0 if none were seen.
    """

    key: Key
    whole: Sample
    bytes: list[Size]
    p99: list[Nanoseconds]
    drops: list[int]
    beyond: list[Nanoseconds]


@dataclass(slots=True)
class Period:
    """From `begin`, in seconds since 1970, in `steps` steps of `step` seconds."""

    begin: int
    step: int
    steps: int
    series: dict[Key, Series] = field(default_factory=dict)

    @property
    def end(self) -> int:
        """When it ends."""
        return self.begin + self.step * self.steps

    def of(self, subject: Subject) -> list[Series]:
        """All of a kind, the largest first."""
        found = [one for key, one in self.series.items() if key.subject == subject]
        return sorted(found, key=lambda one: (-one.whole.bytes, one.key))

    def rate(self, size: float) -> float:
        """The rate of one step in bit/s."""
        return size * 8 / self.step

    def busiest(self, series: Series) -> float:
        """Bit/s of the step with the most."""
        return self.rate(max(series.bytes, default=0))

    def mean(self, series: Series) -> float:
        """Bit/s over the whole time."""
        return series.whole.bytes * 8 / max(1, self.step * self.steps)


def period_of(store: CounterReader, begin: int, end: int, resolution: Resolution) -> Period:
    """Read a period, rounded down to whole steps."""
    step = SPANS[resolution]
    begin -= begin % step
    period = Period(begin, step, -(-(end - begin) // step))
    for at, samples in store.read(resolution, begin, end):
        index = (at - begin) // step
        for key, sample in samples.items():
            series = period.series.get(key)
            if series is None:
                empty = [0] * period.steps
                series = period.series[key] = Series(key, sample, *(empty.copy() for _ in range(4)))
            else:
                series.whole = series.whole.then(sample)
            series.bytes[index] += sample.bytes
            series.p99[index] = max(series.p99[index], sample.p99)
            series.drops[index] += sample.drops
            series.beyond[index] = sample.beyond or series.beyond[index]
    return period

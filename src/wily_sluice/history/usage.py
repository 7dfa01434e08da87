"""Use over a period."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from wily_sluice.history.counter_store import KEPT, SPANS, CounterReader, Resolution, Sample
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
        chosen = [series for key, series in self.series.items() if key.subject == subject]
        return sorted(chosen, key=lambda series: (-series.whole.bytes, series.key))

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


FEWEST_STEPS = 30  # in a stretch of time, for a resolution to be worth looking at


@dataclass(slots=True)
class Use:
    """The use of one subject in one direction: its sum `whole`, and `course`, the bytes of each step."""

    key: Key
    whole: Sample
    course: list[Size] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Usage:
    """From `begin`, in `steps` steps of `step` seconds."""

    begin: int
    step: int
    steps: int
    uses: tuple[Use, ...]

    def rate(self, size: float) -> float:
        """The rate of one step in bit/s."""
        return size * 8 / self.step

    def mean(self, use: Use) -> float:
        """Bit/s over the whole stretch."""
        return use.whole.bytes * 8 / (self.step * self.steps)

    def busiest(self, use: Use) -> float:
        """Bit/s of the step with the most."""
        return self.rate(max(use.course, default=0))


def named(usage: Usage, names: Mapping[str, str]) -> Usage:
    """The same, with the names of hosts before their addresses."""
    for use in usage.uses:
        if use.key.name in names:
            use.key = use.key._replace(name=f"{names[use.key.name]} {use.key.name}")
    return usage


def resolution_for(lasted: int, past: int = 0) -> Resolution:
    """The coarsest that shows a stretch of so many seconds in enough steps; and that is kept for so long, as it began
    `past` seconds ago.
    """
    fitting: list[Resolution] = [resolution for resolution in SPANS if KEPT[resolution] >= max(lasted, past)]
    return next(
        (resolution for resolution in reversed(fitting) if lasted >= FEWEST_STEPS * SPANS[resolution]),
        (fitting or ["hour"])[0],
    )


def usage_of(store: CounterReader, subject: Subject, begin: int, end: int, resolution: Resolution) -> Usage:
    """Read all rows of a subject, the largest first."""
    step = SPANS[resolution]
    begin -= begin % step
    steps = -(-(end - begin) // step)
    sums: dict[Key, Use] = {}
    for at, samples in store.read(resolution, begin, end):
        index = (at - begin) // step
        for key, sample in samples.items():
            if key.subject != subject:
                continue
            use = sums.get(key)
            if use is None:
                use = sums[key] = Use(key, sample, [0] * steps)
            else:
                use.whole = use.whole.then(sample)
            use.course[index] += sample.bytes
    totals: dict[tuple[str, str], Size] = {}
    for use in sums.values():
        totals[use.key.uplink, use.key.name] = totals.get((use.key.uplink, use.key.name), 0) + use.whole.bytes
    ranked = sorted(
        sums.values(),
        key=lambda use: (-totals[use.key.uplink, use.key.name], use.key.uplink, use.key.name, use.key.direction),
    )
    return Usage(begin, step, steps, tuple(ranked))

"""Use over a period, by queue, host or another subject: sums, and rates over time."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from wily_sluice.history.counter_store import KEPT, SPANS, CounterReader, Resolution, Sample
from wily_sluice.history.counts import Key, Subject
from wily_sluice.units import Size

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
    fitting: list[Resolution] = [one for one in SPANS if KEPT[one] >= max(lasted, past)]
    return next((one for one in reversed(fitting) if lasted >= FEWEST_STEPS * SPANS[one]), (fitting or ["hour"])[0])


def usage_of(store: CounterReader, subject: Subject, begin: int, end: int, resolution: Resolution) -> Usage:
    """Read all rows of a subject, the largest first."""
    step = SPANS[resolution]
    begin -= begin % step
    steps = -(-(end - begin) // step)
    found: dict[Key, Use] = {}
    for at, samples in store.read(resolution, begin, end):
        index = (at - begin) // step
        for key, sample in samples.items():
            if key.subject != subject:
                continue
            use = found.get(key)
            if use is None:
                use = found[key] = Use(key, sample, [0] * steps)
            else:
                use.whole = use.whole.then(sample)
            use.course[index] += sample.bytes
    totals: dict[tuple[str, str], Size] = {}
    for use in found.values():
        totals[use.key.uplink, use.key.name] = totals.get((use.key.uplink, use.key.name), 0) + use.whole.bytes
    ranked = sorted(
        found.values(),
        key=lambda use: (-totals[use.key.uplink, use.key.name], use.key.uplink, use.key.name, use.key.direction),
    )
    return Usage(begin, step, steps, tuple(ranked))

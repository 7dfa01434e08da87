"""Lines whose rate changes, what finds it, and trees that are tuned to other rates."""

import math
import pickle
from collections.abc import Callable
from random import Random

import pytest

from tests.engine.driving import Bench, conversation, flood
from wily_sluice.engine.line import SLOT, Jitter, Line, RateSchedule, VaryingLine, steady
from wily_sluice.engine.queueing.spec import LeafSpec, QueueSpec
from wily_sluice.engine.uplinks import GIVEN_UP, TICK, RateFinder
from wily_sluice.units import BYTE_TIME, MILLISECOND, SECOND, Rate

STEPS = RateSchedule(((0, 8_000_000), (SECOND, 800_000), (3 * SECOND, 80_000_000)))


def test_what_a_line_carries_by_a_time_and_when_it_has_carried_so_much() -> None:
    assert STEPS.bits(SECOND // 2) == 4_000_000
    assert STEPS.bits(2 * SECOND) == 8_800_000
    assert STEPS.end(SECOND // 2, 550_000) == pytest.approx(SECOND + SECOND // 2)
    assert (STEPS.rate(SECOND - 1), STEPS.rate(SECOND), STEPS.highest) == (8_000_000, 800_000, 80_000_000)
    random = Random(3)
    for _ in range(300):
        begin, size = random.randrange(5 * SECOND), random.randrange(1, 10**6)
        assert math.isclose(STEPS.bits(STEPS.end(begin, size)) - STEPS.bits(begin), 8 * size, rel_tol=1e-6, abs_tol=1)
    again = pickle.loads(pickle.dumps(STEPS))
    assert (again.bits(4 * SECOND), again.highest) == (STEPS.bits(4 * SECOND), STEPS.highest)
    for points in ((), ((1, 5),), ((0, 5), (0, 6)), ((0, 0),)):
        with pytest.raises(ValueError, match=r"begin at 0|at least 1"):
            RateSchedule(points)


def test_a_line_that_may_vary_and_does_not_is_like_any_other() -> None:
    one, other = Line(8_000_000, 5, 20_000, lambda _: None), VaryingLine(steady(8_000_000), 5, 20_000, lambda _: None)
    random, now = Random(5), 0
    for _ in range(2000):
        now += random.randrange(1_300_000)
        size = random.randrange(40, 1519)
        first, second = one.transmit(size, now), other.transmit(size, now)
        if first is None or second is None:
            assert one.waiting(now) + size == pytest.approx(20_000, abs=1518)
        else:
            assert abs(first - second) < 1000 * (1 + abs(one.drops - other.drops) * 1518)
    assert one.drops == pytest.approx(other.drops, abs=2)
    assert one.drops > 100


def test_jitter_has_its_mean_and_keeps_packets_in_order() -> None:
    mean = 4 * MILLISECOND
    jitter, line = Jitter(mean, "a"), Line(8_000_000, 5 * MILLISECOND, 20_000, lambda _: None, Jitter(mean, "a"))
    apart = [jitter.delayed(at) - at for at in range(0, 4000 * 100 * MILLISECOND, 100 * MILLISECOND)]
    assert sum(apart) / len(apart) == pytest.approx(mean, rel=0.05)
    assert sorted(apart)[int(0.95 * len(apart))] == pytest.approx(3 * mean, rel=0.1)
    arrivals = [line.transmit(1000, at) for at in range(0, SECOND, 2 * MILLISECOND)]
    assert all(arrivals) and arrivals == sorted(arrivals)  # type: ignore[type-var]
    assert len({arrival - 6 * MILLISECOND - n * 2 * MILLISECOND for n, arrival in enumerate(arrivals)}) > SECOND // SLOT  # type: ignore[operator]
    assert [Jitter(0, "a").delayed(at) for at in (0, 7, SLOT)] == [0, 7, SLOT]


def shape(rate: Rate) -> QueueSpec:
    """A tree with shares and fixed amounts, a curve and a cap, at a rate."""
    a, b = QueueSpec("top/a", rate // 4, rate), QueueSpec("top/b", rate // 20, rate, weight=3)
    top = QueueSpec("top", rate // 2, rate, children=(a, b))
    capped = QueueSpec("capped", 0, min(rate, 2_000_000), priority=1)
    quick = QueueSpec("curved/quick", rate // 10, rate, leaf=LeafSpec(delay=20 * MILLISECOND))
    curved = QueueSpec(
        "curved", rate // 5, rate, children=(quick, QueueSpec("curved/rest", 0, rate)), discipline="curve"
    )
    return QueueSpec("", rate, rate, children=(top, capped, curved))


@pytest.mark.parametrize(
    ("before", "after"), [(20_000_000, 5_000_000), (5_000_000, 40_000_000), (9_000_000, 1_500_000)]
)
def test_a_tree_that_was_tuned_shares_as_one_that_was_made_so(before: Rate, after: Rate) -> None:
    bench = Bench(shape(before))
    hungry = [conversation(index + 1) for index, _ in enumerate(shape(before).leaves())]
    refill = bench.keep_full(hungry, 1000)
    bench.run(3 * SECOND, refill)
    bench.shaper.retune(shape(after), bench.now)
    sent = {leaf.path: leaf.sent_bytes for leaf in bench.shaper.tree.leaves}
    bench.run(13 * SECOND, refill)
    rates = {path: (rate * 13 - 8 * sent[path]) / 10 for path, rate in bench.rates(13).items()}
    made = flood(shape(after), 10, 1000).rates(10)
    assert sum(rates.values()) == pytest.approx(after, rel=0.01)
    for path, rate in made.items():
        assert rates[path] == pytest.approx(rate, rel=0.03, abs=0.005 * after), path


class Filled:
    """A line that a sender fills at the rate that a finder gives; `queue` is in bits."""

    def __init__(self, finder: RateFinder, own: int = 40_000_000) -> None:
        self.finder, self.own, self.now, self.queue = finder, own, 0, 0.0

    def run(self, seconds: float, carries: Rate) -> list[tuple[Rate, float]]:
        """For a while; of each step, the rate and how long the queue is, in ns."""
        seen = []
        for _ in range(round(seconds * SECOND / TICK)):
            self.now += TICK
            rate = self.finder.rate
            self.queue = max(0.0, self.queue + (rate - carries) * TICK / SECOND)
            wait = self.queue / carries * SECOND
            self.finder.saw(self.own + round(wait), self.now)
            self.finder.step(round(rate * TICK / BYTE_TIME), True, self.now)
            seen.append((rate, wait))
        return seen


def test_a_finder_comes_near_what_a_line_carries_and_leaves_no_queue() -> None:
    finder = RateFinder(2_000_000, 50_000_000, toward=True)
    line = Filled(finder)
    line.run(8, 30_000_000)
    for carries in (30_000_000, 9_000_000, 22_000_000):
        line.run(3, carries)
        seen = line.run(10, carries)
        assert max(wait for _, wait in seen) < 40 * MILLISECOND
        assert 0.85 * carries < sum(rate for rate, _ in seen) / len(seen) < 1.02 * carries
    line.run(30, 500_000)
    assert finder.rate == 2_000_000


def test_a_finder_grows_only_where_more_waits_and_takes_silence_for_a_full_line() -> None:
    finder = RateFinder(1_000_000, 10_000_000, toward=False)
    line = Filled(finder)
    for _ in range(100):
        line.now += TICK
        finder.saw(line.own, line.now)
        finder.step(1000, False, line.now)
    assert finder.rate == 1_000_000
    line.run(5, 100_000_000)
    assert finder.rate == 10_000_000
    for _ in range(20):
        line.now += TICK
        finder.step(3000, True, line.now)
    assert finder.rate < 2_000_000
    # The remote is dead, and not the line: what conversations show counts, and where nobody knows, nothing changes.
    for tick in range(400):
        line.now += TICK
        if tick > 100:
            finder.passed((tick % 5) * MILLISECOND)
        finder.step(round(finder.rate * TICK / BYTE_TIME), True, line.now)
        if tick == 100:
            assert finder.unheard and finder.rate == 1_000_000
    assert finder.rate == 10_000_000
    for _ in range(20):
        line.now += TICK
        finder.passed(40 * MILLISECOND)
        finder.step(round(3_000_000 * TICK / BYTE_TIME), True, line.now)
    assert finder.rate < 3_000_000
    finder.begin_anew()
    assert not finder.unheard
    fresh = RateFinder(1_000_000, 10_000_000, toward=False)
    for _ in range(20):
        fresh.step(3000, True, line.now)  # nobody ever answered: nothing is known
    assert fresh.rate == 1_000_000 and not fresh.unheard
    for _ in range(GIVEN_UP):
        fresh.step(3000, True, line.now)
    assert fresh.unheard and not fresh.heard


class Jittery:
    """A line of 20 Mbit/s, between 8 and 40, that a sender fills as a finder says; answers come after the line's own
    40 ms, what waits, and jitter.
    """

    def __init__(self, toward: bool, jitter: Callable[[], float], lowest: Rate = 8_000_000) -> None:
        self.finder = RateFinder(lowest, 40_000_000, toward)
        self.toward, self.jitter = toward, jitter
        self.own, self.now, self.queue = 40 * MILLISECOND, 0, 0.0
        self._coming: list[tuple[int, int]] = []

    def run(self, seconds: float, carries: Rate = 20_000_000) -> tuple[float, list[float]]:
        """The part of the line that was used, and how long packets waited, in ms."""
        used, waits, steps = 0.0, [], round(seconds * SECOND / TICK)
        for _ in range(steps):
            self.now += TICK
            came = self.finder.rate * TICK / SECOND
            left = min(self.queue + came, carries * TICK / SECOND)
            self.queue += came - left
            wait = self.queue / carries * SECOND
            delay = self.own + round(wait + max(0.0, self.jitter()) * MILLISECOND)
            self._coming.append((self.now + delay, delay))
            while self._coming and self._coming[0][0] <= self.now:
                self.finder.saw(self._coming.pop(0)[1], self.now)
            self.finder.step(round((came if self.toward else left) / 8), True, self.now)
            used += left
            waits.append(wait / MILLISECOND)
        return used / (carries * steps * TICK / SECOND), waits


@pytest.mark.parametrize("toward", [False, True])
@pytest.mark.parametrize("kind", ["uniform", "exponential", "normal", "spikes"])
@pytest.mark.parametrize(("mean", "least"), [(0, 0.92), (4, 0.88), (8, 0.85), (12, 0.80)])
def test_a_line_with_jitter_is_used_and_no_queue_stays_there(mean: int, least: float, kind: str, toward: bool) -> None:
    drawn = Random(33 + mean)
    jitter: Callable[[], float] = {
        "uniform": lambda: drawn.uniform(0, 2 * mean),
        "exponential": lambda: drawn.expovariate(1 / mean) if mean else 0.0,
        "normal": lambda: drawn.gauss(mean, mean / 2),
        "spikes": lambda: drawn.expovariate(0.3 / mean) if mean and drawn.random() < 0.3 else 0.0,
    }[kind]
    line = Jittery(toward, jitter)
    line.run(10)
    used, waits = line.run(60)
    assert used >= least - (0.1 if kind == "spikes" else 0)  # of 40 ms on average, in one of three
    assert sum(waits) / len(waits) < 10 and sorted(waits)[round(0.95 * len(waits))] < 20 + mean


@pytest.mark.parametrize("toward", [False, True])
def test_after_a_step_the_rate_is_right_and_a_path_that_grows_longer_is_no_queue(toward: bool) -> None:
    drawn = Random(33)
    for mean in (0, 4):
        line = Jittery(toward, lambda mean=mean: drawn.uniform(0, 2 * mean), 2_000_000)  # type: ignore[misc]
        line.run(20)
        line.run(3, 8_000_000)
        used, waits = line.run(5, 8_000_000)
        assert used > 0.85 and sum(waits) / len(waits) < 12
        line.run(8)
        assert line.run(5)[0] > 0.88
        line.own += 25 * MILLISECOND  # for good
        line.run(9)
        assert line.run(5)[0] > 0.85
        line.own -= 25 * MILLISECOND
        assert line.run(5)[0] > 0.85

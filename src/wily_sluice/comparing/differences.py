"""The differences between two results, and whether they exceed chance.

Successive samples are similar: a full buffer stays full for a while. So both results are resampled in blocks, many
times (the block bootstrap: Künsch 1989); a difference is beyond the noise if 95% of the resamples agree on its sign.
Proportions are compared by the interval of their difference (Newcombe 1998, method 10). Quantities without samples are
exact, and differ from half a percent on.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import sqrt

import numpy as np

from wily_sluice.comparing.quantities import MORE_IS_BETTER, Quantity, Result, Statistic

BLOCK = 25  # samples
DRAWS = 1000
CONFIDENCE = 0.95
EXACT = 0.005  # of the larger: what is exact and differs by no more is the same
Z = 1.959964  # of a normal distribution, for CONFIDENCE
PERCENTILES = {"p50": 50, "p95": 95, "p99": 99}


@dataclass(frozen=True, slots=True)
class Difference:
    """One quantity in both results. `low` and `high` are where the difference is, B less A, with CONFIDENCE; None where
    both are exact. `beyond` says that it is beyond the noise, and `better` that B is the better one then; that is None
    of a rate, since a plan may want less of something.
    """

    quantity: Quantity
    a: float | None
    b: float | None
    low: float | None
    high: float | None
    beyond: bool
    better: bool | None


def differences(a: Result, b: Result) -> list[Difference]:
    """For all quantities in both, in the order of the first; then those in only one."""
    found = [_difference(a[name], b[name]) for name in a if name in b]
    found += [Difference(one, _value(one), None, None, None, True, None) for name, one in a.items() if name not in b]
    found += [Difference(one, None, _value(one), None, None, True, None) for name, one in b.items() if name not in a]
    return found


def _difference(a: Quantity, b: Quantity) -> Difference:
    one, other = _value(a), _value(b)
    if one is None or other is None:
        return Difference(a, one, other, None, None, one != other, None)
    low: float | None = None
    high: float | None = None
    if a.samples and b.samples:
        low, high = _interval(a.samples, b.samples, a.statistic)
    elif a.of and b.of:
        low, high = _of_shares(one, a.of, other, b.of)
    if low is None or high is None:
        beyond = abs(other - one) > EXACT * max(abs(one), abs(other))
    else:
        beyond = low > 0 or high < 0
    better = (other > one) == MORE_IS_BETTER[a.unit] if beyond and other != one and a.unit in MORE_IS_BETTER else None
    return Difference(a, one, other, low, high, beyond and other != one, better)


def _value(one: Quantity) -> float | None:
    if one.value is not None or not one.samples:
        return one.value
    return _taken(np.asarray(one.samples, dtype=np.float64), one.statistic)


def _taken(samples: "np.ndarray[tuple[int, ...], np.dtype[np.float64]]", statistic: Statistic) -> float:
    return float(samples.mean() if statistic == "mean" else np.percentile(samples, PERCENTILES[statistic]))


def _interval(a: Sequence[float], b: Sequence[float], statistic: Statistic) -> tuple[float, float]:
    """The interval of the difference, by resampled blocks."""
    from scipy.stats import bootstrap

    blocks = [_blocks(samples) for samples in (a, b)]

    def difference(
        of_a: "np.ndarray[tuple[int], np.dtype[np.int64]]", of_b: "np.ndarray[tuple[int], np.dtype[np.int64]]"
    ) -> float:
        one, other = (
            np.concatenate([own[index] for index in drawn]) for own, drawn in zip(blocks, (of_a, of_b), strict=True)
        )
        return _taken(other, statistic) - _taken(one, statistic)

    indices = [np.arange(len(own)) for own in blocks]
    if any(len(one) < 2 for one in indices):
        exact = difference(*indices)
        return exact, exact
    found = bootstrap(
        indices,
        difference,
        n_resamples=DRAWS,
        confidence_level=CONFIDENCE,
        method="percentile",
        vectorized=False,
        rng=np.random.default_rng(1),
    )
    return float(found.confidence_interval.low), float(found.confidence_interval.high)


def _blocks(samples: Sequence[float]) -> "list[np.ndarray[tuple[int, ...], np.dtype[np.float64]]]":
    """Samples that follow each other; of few samples, each alone."""
    values = np.asarray(samples, dtype=np.float64)
    size = BLOCK if len(values) >= 8 * BLOCK else 1
    return [values[first : first + size] for first in range(0, len(values), size)]


def _of_shares(a: float, of_a: int, b: float, of_b: int) -> tuple[float, float]:
    """Where the difference of two shares is: B less A."""
    low_a, high_a = _wilson(a, of_a)
    low_b, high_b = _wilson(b, of_b)
    low = b - a - sqrt((b - low_b) ** 2 + (high_a - a) ** 2)
    return low, b - a + sqrt((high_b - b) ** 2 + (a - low_a) ** 2)


def _wilson(share: float, of: int) -> tuple[float, float]:
    """Where a share is (Wilson 1927)."""
    middle = share + Z * Z / (2 * of)
    half = Z * sqrt(share * (1 - share) / of + Z * Z / (4 * of * of))
    whole = 1 + Z * Z / of
    return (middle - half) / whole, (middle + half) / whole

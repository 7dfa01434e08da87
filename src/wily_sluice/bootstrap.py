"""Intervals of statistics by resampling: the bootstrap with percentiles (Efron 1979)."""

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np


def bootstrap(
    samples: Sequence["np.ndarray[tuple[int], np.dtype[Any]]"],
    statistic: Callable[..., float],
    draws: int,
    confidence: float,
) -> tuple[float, float]:
    """The interval of a statistic of one or more samples, with this confidence: a part of one.

    Each sample is drawn again `draws` times, with replacement and as many as it has. The same samples give the same
    interval.
    """
    random = np.random.default_rng(1)
    indices = [random.integers(0, len(sample), (draws, len(sample))) for sample in samples]
    values = [
        statistic(*(sample[chosen] for sample, chosen in zip(samples, draw, strict=True)))
        for draw in zip(*indices, strict=True)
    ]
    tail = (1 - confidence) / 2 * 100
    low, high = np.percentile(values, (tail, 100 - tail))
    return float(low), float(high)

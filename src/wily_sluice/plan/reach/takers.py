"""Which of many regions a single point is in; so that whether others cover a region is found out without going through
them all.

A point that no other region has proves that something is left. Where there is such a point, one of a few that are drawn
finds it nearly always; where there is none, each draw names a region that takes part in the covering. The draws follow
a seed, and the answer does not depend on them.
"""

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from random import Random
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from wily_sluice.plan.reach.regions import Box, Dimension, Ranges

Point: TypeAlias = Mapping[Dimension, int]


class _Line:
    """One dimension: the ranges of all boxes on it, by box; and which boxes have all of it."""

    def __init__(self, boxes: Sequence[Box], dimension: Dimension) -> None:
        self._free = np.array([dimension not in box for box in boxes], dtype=bool)
        spans = [(low, high + 1, index) for index, box in enumerate(boxes) for low, high in box.get(dimension, ())]
        # Numbers of addresses are too large for arrays: each is told by its place among all ends.
        self._ends = sorted({end for low, past, _ in spans for end in (low, past)})
        place_of = {end: index for index, end in enumerate(self._ends, 1)}
        self._low = np.array([place_of[low] for low, _, _ in spans], dtype=np.int64)
        self._past = np.array([place_of[past] for _, past, _ in spans], dtype=np.int64)
        self._box = np.array([index for _, _, index in spans], dtype=np.int64)

    def having(self, value: int, boxes: int) -> NDArray[np.bool_]:
        """Which of the first boxes have a value."""
        here = bisect_right(self._ends, value)
        count = int(np.searchsorted(self._box, boxes))
        found = self._free[:boxes].copy()
        found[self._box[:count][(self._low[:count] <= here) & (here < self._past[:count])]] = True
        return found


class Takers:
    """Of regions in their order; a region that is None takes nothing."""

    def __init__(self, regions: Sequence[Sequence[Box] | None]) -> None:
        boxes = [box for region in regions for box in region or ()]
        self._region = np.array([n for n, region in enumerate(regions) for _ in region or ()], dtype=np.int64)
        asked = sorted({dimension for box in boxes for dimension in box})
        self._lines = [(dimension, _Line(boxes, dimension)) for dimension in asked]

    def of(self, point: Point, before: int) -> list[int]:
        """The regions that a point is in, of those before one."""
        boxes = int(np.searchsorted(self._region, before))
        found = np.ones(boxes, dtype=bool)
        for dimension, line in self._lines:
            found &= line.having(point.get(dimension, 0), boxes)
        return [int(number) for number in np.unique(self._region[:boxes][found])]


def draw(region: Sequence[Box], whole: Mapping[Dimension, Ranges], drawn: Random) -> Point:
    """A point of a region. What is either so or not is not so, where the region does not say."""
    box = drawn.choice(region)
    point = {}
    for dimension, values in whole.items():
        ranges = box.get(dimension)
        if ranges is None:
            if values == ((0, 1),):
                point[dimension] = 0
                continue
            ranges = values
        low, high = drawn.choice(ranges)
        point[dimension] = drawn.randint(low, high)
    return point

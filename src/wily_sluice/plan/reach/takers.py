"""Finds the regions that contain a point, to decide quickly whether others cover a region.

A point that no other region contains proves that something is left. If there is one, a few drawn points almost always
find it. If there is none, each drawn point names a region of the cover. The draws use a fixed seed, and the answer does
not depend on them.
"""

from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence
from itertools import accumulate
from operator import xor
from random import Random
from typing import TypeAlias

from wily_sluice.plan.reach.regions import Box, Dimension, Ranges

Point: TypeAlias = Mapping[Dimension, int]


class _Line:
    """One dimension, cut where a range of any box begins or ends; for each piece the boxes that have it, as bits."""

    def __init__(self, boxes: Sequence[Box], dimension: Dimension) -> None:
        self._free = sum(1 << index for index, box in enumerate(boxes) if dimension not in box)
        toggles: dict[int, int] = {}
        for index, box in enumerate(boxes):
            for low, high in box.get(dimension, ()):
                for end in (low, high + 1):
                    toggles[end] = toggles.get(end, 0) ^ 1 << index
        self._ends = sorted(toggles)
        self._having: list[int] = [0, *accumulate((toggles[end] for end in self._ends), xor)]

    def having(self, value: int) -> int:
        """The boxes that have a value, as bits."""
        return self._free | self._having[bisect_right(self._ends, value)]


class Takers:
    """Of regions in their order; a region that is None takes nothing."""

    def __init__(self, regions: Sequence[Sequence[Box] | None]) -> None:
        boxes = [box for region in regions for box in region or ()]
        self._region = [number for number, region in enumerate(regions) for _ in region or ()]
        self._before = [0, *accumulate(len(region or ()) for region in regions)]
        asked = sorted({dimension for box in boxes for dimension in box})
        self._lines = [(dimension, _Line(boxes, dimension)) for dimension in asked]

    def of(self, point: Point, before: int) -> list[int]:
        """The regions that contain a point, among those ahead of one."""
        found = (1 << self._before[before]) - 1
        for dimension, line in self._lines:
            found &= line.having(point.get(dimension, 0))
        return list(dict.fromkeys(self._region[box] for box in _bits(found)))


def _bits(number: int) -> Iterator[int]:
    """The places of the ones, in order."""
    text = f"{number:b}"[::-1]
    at = text.find("1")
    while at >= 0:
        yield at
        at = text.find("1", at + 1)


def draw(region: Sequence[Box], whole: Mapping[Dimension, Ranges], drawn: Random) -> Point:
    """Draw a point of a region. Dimensions of two values are 0 unless the region says otherwise."""
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

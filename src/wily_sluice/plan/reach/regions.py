"""Regions of conversations: boxes with a set of values in each dimension.

Regions of conversations: boxes with a set of values in each dimension, and their differences. Exact, without
sampling.

A dimension is a line of integers. A set of values is a sorted tuple of inclusive ranges that neither overlap nor touch.
A box has a set for some dimensions and all values in the others. A region is a list of boxes, which may overlap.

Taking a box away from another leaves at most as many boxes as the one taken away has dimensions. A region can still
grow to many boxes, so the caller gives a limit.

Finds the regions that contain a point, to decide quickly whether others cover a region.

A point that no other region contains proves that something is left. If there is one, a few drawn points almost always
find it. If there is none, each drawn point names a region of the cover. The draws use a fixed seed, and the answer does
not depend on them.
"""

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import accumulate
from operator import xor
from random import Random
from typing import TypeAlias

from wily_sluice.engine.classify.header import KIND_BITS

Ranges: TypeAlias = tuple[tuple[int, int], ...]
Dimension: TypeAlias = tuple[str, str]  # its kind, and which of them
Box: TypeAlias = Mapping[Dimension, Ranges]
LOCAL, REMOTE, PROTOCOL, LOCAL_PORT, REMOTE_PORT, DSCP, KIND, MOVED, UPLINK, TIME = (
    (name, "")
    for name in (
        "local", "remote", "protocol", "local-port", "remote-port", "dscp", "packet", "moved", "uplink", "when",
    )
)  # fmt: skip
IPV6_BEGINS = 1 << 32  # where addresses of IPv6 begin, on one line with those of IPv4
NO_END = 1 << 62
KINDS = 1 << KIND_BITS  # combinations of kinds of packets


class TooInvolvedError(Exception):
    """There are more boxes than are worth it."""


def ranges(pairs: Iterable[tuple[int, int]]) -> Ranges:
    """Ranges put in order, those that overlap or touch made one."""
    ranges_left: list[tuple[int, int]] = []
    for first, last in sorted(pairs):
        if ranges_left and first <= ranges_left[-1][1] + 1:
            ranges_left[-1] = (ranges_left[-1][0], max(ranges_left[-1][1], last))
        else:
            ranges_left.append((first, last))
    return tuple(ranges_left)


def both(one: Ranges, other: Ranges) -> Ranges:
    """The intersection."""
    ranges = []
    index = 0
    for first, last in one:
        while index < len(other) and other[index][1] < first:
            index += 1
        here = index
        while here < len(other) and other[here][0] <= last:
            ranges.append((max(first, other[here][0]), min(last, other[here][1])))
            here += 1
    return tuple(ranges)


def without(ranges: Ranges, other: Ranges) -> Ranges:
    """The difference."""
    boxes = []
    for begin, last in ranges:
        first = begin
        for low, high in other:
            if high < first:
                continue
            if low > last:
                break
            if low > first:
                boxes.append((first, low - 1))
            first = high + 1
        if first <= last:
            boxes.append((first, last))
    return tuple(boxes)


def meet(box: Box, other: Box) -> Box | None:
    """What two boxes have in common; None for nothing."""
    common = dict(box)
    for dimension, values in other.items():
        mine = common.get(dimension)
        shared = values if mine is None else both(mine, values)
        if not shared:
            return None
        common[dimension] = shared
    return common


def meet_all(region: Iterable[Box], other: Iterable[Box], limit: int) -> list[Box]:
    """What two regions have in common. TooInvolvedError for more than `limit` boxes."""
    boxes: list[Box] = []
    others = list(other)
    for box in region:
        for two in others:
            common = meet(box, two)
            if common is not None:
                boxes.append(common)
        if len(boxes) > limit:
            raise TooInvolvedError
    return boxes


def left_of(box: Box, taken: Box, whole: Mapping[Dimension, Ranges]) -> list[Box]:
    """The rest of a box after another is taken away. `whole` has all values of the dimensions."""
    pieces: list[Box] = []
    rest: dict[Dimension, Ranges] = dict(box)
    for dimension, values in taken.items():
        mine = rest.get(dimension) or whole[dimension]
        shared = both(mine, values)
        if not shared:
            return [box]
        outside = without(mine, values)
        if outside:
            pieces.append({**rest, dimension: outside})
        rest[dimension] = shared
    return pieces


def left(region: list[Box], taken: Iterable[Box], whole: Mapping[Dimension, Ranges], limit: int) -> list[Box]:
    """The rest of a region. TooInvolvedError for more than `limit` boxes."""
    for box in taken:
        region = [piece for piece_before in region for piece in left_of(piece_before, box, whole)]
        if len(region) > limit:
            raise TooInvolvedError
        if not region:
            break
    return region


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
        bits = (1 << self._before[before]) - 1
        for dimension, line in self._lines:
            bits &= line.having(point.get(dimension, 0))
        return list(dict.fromkeys(self._region[box] for box in _bits(bits)))


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

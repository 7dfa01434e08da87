"""Regions of conversations: boxes with a set of values in each dimension, and their differences. Exact, without
sampling.

A dimension is a line of integers. A set of values is a sorted tuple of inclusive ranges that neither overlap nor touch.
A box has a set for some dimensions and all values in the others. A region is a list of boxes, which may overlap.

Taking a box away from another leaves at most as many boxes as the one taken away has dimensions. A region can still
grow to many boxes, so the caller gives a limit.
"""

from collections.abc import Iterable, Mapping
from typing import TypeAlias

from wily_sluice.engine.classify.kind import KIND_BITS

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
    found: list[tuple[int, int]] = []
    for first, last in sorted(pairs):
        if found and first <= found[-1][1] + 1:
            found[-1] = (found[-1][0], max(found[-1][1], last))
        else:
            found.append((first, last))
    return tuple(found)


def both(one: Ranges, other: Ranges) -> Ranges:
    """The intersection."""
    found = []
    index = 0
    for first, last in one:
        while index < len(other) and other[index][1] < first:
            index += 1
        here = index
        while here < len(other) and other[here][0] <= last:
            found.append((max(first, other[here][0]), min(last, other[here][1])))
            here += 1
    return tuple(found)


def without(one: Ranges, other: Ranges) -> Ranges:
    """The difference."""
    found = []
    for begin, last in one:
        first = begin
        for low, high in other:
            if high < first:
                continue
            if low > last:
                break
            if low > first:
                found.append((first, low - 1))
            first = high + 1
        if first <= last:
            found.append((first, last))
    return tuple(found)


def meet(one: Box, other: Box) -> Box | None:
    """What two boxes have in common; None for nothing."""
    common = dict(one)
    for dimension, values in other.items():
        mine = common.get(dimension)
        shared = values if mine is None else both(mine, values)
        if not shared:
            return None
        common[dimension] = shared
    return common


def meet_all(region: Iterable[Box], other: Iterable[Box], limit: int) -> list[Box]:
    """What two regions have in common. TooInvolvedError for more than `limit` boxes."""
    found: list[Box] = []
    others = list(other)
    for one in region:
        for two in others:
            common = meet(one, two)
            if common is not None:
                found.append(common)
        if len(found) > limit:
            raise TooInvolvedError
    return found


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
        region = [piece for one in region for piece in left_of(one, box, whole)]
        if len(region) > limit:
            raise TooInvolvedError
        if not region:
            break
    return region

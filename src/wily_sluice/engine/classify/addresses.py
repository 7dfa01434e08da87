"""Sets of addresses, and sets of host names (RFC 1123).

A pattern is a name, or `*.` and a name: every name below it, at any depth, but not itself. Names are compared in lower
case and without a final dot. A look-up takes one step per label of the name, for sets of any size.

A set of IP addresses of both versions, as disjoint ranges; membership takes logarithmic time.

Addresses are packed, 4 bytes for IPv4 and 16 for IPv6, in network byte order as in a header. Packed addresses of one
length sort like numbers, which the bisection relies on.
"""

from bisect import bisect_right
from collections.abc import Iterable, Iterator
from ipaddress import ip_address
from typing import Final, TypeAlias

LONGEST: Final = 253  # characters: RFC 1035 §2.3.4


def normal(name: str) -> str:
    """A name as it is compared."""
    return name.rstrip(".").lower()


class NameSet:
    """An immutable set of patterns."""

    __slots__ = ("_below", "_exact", "patterns")

    def __init__(self, patterns: Iterable[str] = ()) -> None:
        self.patterns = frozenset(normal(pattern) for pattern in patterns)
        self._exact = frozenset(pattern for pattern in self.patterns if not pattern.startswith("*."))
        self._below = frozenset(pattern[2:] for pattern in self.patterns if pattern.startswith("*."))

    def __contains__(self, name: str) -> bool:
        if name in self._exact:
            return True
        if self._below:
            dot = name.find(".")
            while dot >= 0:
                name = name[dot + 1 :]
                if name in self._below:
                    return True
                dot = name.find(".")
        return False

    def __bool__(self) -> bool:
        return bool(self.patterns)

    def any_of(self, names: Iterable[str]) -> str:
        """The first of these names that is in the set; empty if none is."""
        for name in names:
            if name in self:
                return name
        return ""


def covers(wide: str, narrow: str) -> bool:
    """Whether every name of one pattern is one of the other."""
    if wide == narrow:
        return True
    return wide.startswith("*.") and narrow.removeprefix("*").endswith(wide[1:]) and narrow != wide[2:]


Packed: TypeAlias = bytes
Range: TypeAlias = tuple[Packed, Packed]  # first and last, both inside; of one length


def _merged(ranges: Iterable[Range]) -> list[Range]:
    merged: list[Range] = []
    for first, last in sorted(ranges):
        if merged and int.from_bytes(first) <= int.from_bytes(merged[-1][1]) + 1:
            merged[-1] = (merged[-1][0], max(merged[-1][1], last))
        else:
            merged.append((first, last))
    return merged


class AddressSet:
    """An immutable set of addresses. Overlapping and adjoining ranges are merged."""

    __slots__ = ("_firsts4", "_firsts6", "_lasts4", "_lasts6")

    def __init__(self, ranges: Iterable[Range] = ()) -> None:
        ranges = list(ranges)
        for first, last in ranges:
            if len(first) != len(last) or len(first) not in (4, 16) or first > last:
                raise ValueError(f"not a range of addresses: {first.hex()} to {last.hex()}")
        v4 = _merged(r for r in ranges if len(r[0]) == 4)
        v6 = _merged(r for r in ranges if len(r[0]) == 16)
        self._firsts4, self._lasts4 = [r[0] for r in v4], [r[1] for r in v4]
        self._firsts6, self._lasts6 = [r[0] for r in v6], [r[1] for r in v6]

    def __contains__(self, address: Packed) -> bool:
        firsts, lasts = (self._firsts4, self._lasts4) if len(address) == 4 else (self._firsts6, self._lasts6)
        index = bisect_right(firsts, address) - 1
        return index >= 0 and address <= lasts[index]

    def __iter__(self) -> Iterator[Range]:
        yield from zip(self._firsts4, self._lasts4, strict=True)
        yield from zip(self._firsts6, self._lasts6, strict=True)

    @property
    def size(self) -> int:
        """The number of addresses. Not `len()`, which cannot return the size of a single IPv6 subnet."""
        return sum(int.from_bytes(last) - int.from_bytes(first) + 1 for first, last in self)

    def __bool__(self) -> bool:
        return bool(self._firsts4 or self._firsts6)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, AddressSet) and list(self) == list(other)

    def __hash__(self) -> int:
        return hash(tuple(self))

    def __or__(self, other: "AddressSet") -> "AddressSet":
        return AddressSet([*self, *other])

    def __and__(self, other: "AddressSet") -> "AddressSet":
        return AddressSet(
            (max(a[0], b[0]), min(a[1], b[1]))
            for a in self
            for b in other
            if len(a[0]) == len(b[0]) and a[0] <= b[1] and b[0] <= a[1]
        )

    def __sub__(self, other: "AddressSet") -> "AddressSet":
        left: list[Range] = []
        for first, last in self:
            begin, end, width = int.from_bytes(first), int.from_bytes(last), len(first)
            for taken in (r for r in other if len(r[0]) == width):
                low, high = int.from_bytes(taken[0]), int.from_bytes(taken[1])
                if high < begin or low > end:
                    continue
                if low > begin:
                    left.append((begin.to_bytes(width), (low - 1).to_bytes(width)))
                begin = high + 1
                if begin > end:
                    break
            if begin <= end:
                left.append((begin.to_bytes(width), end.to_bytes(width)))
        return AddressSet(left)

    def __str__(self) -> str:
        return ", ".join(
            str(ip_address(first)) if first == last else f"{ip_address(first)}-{ip_address(last)}"
            for first, last in self
        )

"""Host names (RFC 1123), and sets of them.

A pattern is a name, or `*.` and a name: every name below it, at any depth, but not itself. Names are compared in lower
case and without a final dot. A look-up takes one step per label of the name, for sets of any size.
"""

from collections.abc import Iterable
from typing import Final

LONGEST: Final = 253  # characters: RFC 1035 §2.3.4


def normal(name: str) -> str:
    """A name as it is compared."""
    return name.rstrip(".").lower()


class NameSet:
    """An immutable set of patterns."""

    __slots__ = ("_below", "_exact", "patterns")

    def __init__(self, patterns: Iterable[str] = ()) -> None:
        self.patterns = frozenset(normal(pattern) for pattern in patterns)
        self._exact = frozenset(one for one in self.patterns if not one.startswith("*."))
        self._below = frozenset(one[2:] for one in self.patterns if one.startswith("*."))

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

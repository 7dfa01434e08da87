"""The bits of the kernel's firewall mark that name a conversation's uplink, and the preferences of the routing rules.

A firewall mark is a 32-bit number that never leaves this machine, and all its programs share it. Scripts count their
marks up from 1, and many packages use one of the lower three bytes, so the default is the seven bits 24 to 30. Bit 31
stays free because some tools print marks as signed numbers. The routing rules come late, so that other programs' rules
decide first. They are far from the numbers that the kernel hands out itself, which count down from 32765.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Final

BITS: Final = 32
WHOLE: Final = (1 << BITS) - 1
RULES: Final = 3  # preferences in a row
LAST_PREFERENCE: Final = 32_765  # of rules before that of the main table
NARROWEST: Final = 2  # bits


@dataclass(frozen=True, slots=True)
class MarkField:
    """`lowest` and `highest` are bits, from 0; `preference` is that of the first rule."""

    lowest: int = 24
    highest: int = 30
    preference: int = 28_440

    @property
    def mask(self) -> int:
        """All its bits."""
        return ((1 << self.width) - 1) << self.lowest

    @property
    def width(self) -> int:
        """How many bits it has."""
        return self.highest - self.lowest + 1

    @property
    def most(self) -> int:
        """How many uplinks and tunnels it tells apart: 0 means unmarked, and all bits set that no route applies."""
        return (1 << self.width) - 2

    @property
    def unrouted(self) -> int:
        """The mark of a conversation that no route applies to."""
        return self.mask

    def of(self, number: int) -> int:
        """The mark of the uplink with this number, from 1."""
        return number << self.lowest

    def __str__(self) -> str:
        return f"{self.lowest}-{self.highest}"


USUAL_MARKS: Final = MarkField()


@dataclass(frozen=True, slots=True)
class MarkUse:
    """Another program's use of firewall marks: some bits, the preference of a routing rule, or both."""

    who: str
    bits: int = 0
    preference: int | None = None


def clashes(field: MarkField, uses: Iterable[MarkUse]) -> list[str]:
    """The overlaps with the field or the preferences, each as a sentence."""
    own = range(field.preference, field.preference + RULES)
    fields = []
    for use in uses:
        if use.bits & field.mask:
            fields.append(f"{use.who} uses bits {bit_words(use.bits)} of the firewall mark")
        elif use.preference in own:
            fields.append(f"{use.who} has preference {use.preference}")
    return fields


def free_field(field: MarkField, uses: Sequence[MarkUse]) -> MarkField:
    """A free field of the same width, or the widest free one; and free preferences. The field itself if there is no
    overlap.
    """
    used = 0
    for use in uses:
        used |= use.bits
    lowest, width = field.lowest, field.width
    if used & field.mask:
        runs = [(low, _run(used, low)) for low in range(BITS)]
        wide = [low for low, length in runs if length >= width]
        lowest = wide[-1] if wide else max(runs, key=lambda run: run[1])[0]
        width = min(width, _run(used, lowest))
    taken = {use.preference for use in uses}
    preference = field.preference
    while taken & {*range(preference, preference + RULES)}:
        preference -= RULES
    return MarkField(lowest, lowest + max(width, NARROWEST) - 1, preference)


def _run(used: int, low: int) -> int:
    """The number of free bits from this one up; the highest bit is always free."""
    length = 0
    while low + length < BITS - 1 and not used >> (low + length) & 1:
        length += 1
    return length


def bit_words(bits: int) -> str:
    """`16-23, 28`."""
    runs: list[list[int]] = []
    for bit in (bit for bit in range(BITS) if bits >> bit & 1):
        if runs and runs[-1][1] == bit - 1:
            runs[-1][1] = bit
        else:
            runs.append([bit, bit])
    return ", ".join(f"{low}" if low == high else f"{low}-{high}" for low, high in runs)

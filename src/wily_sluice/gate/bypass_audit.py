"""Compares the traffic of each uplink by its interface's counters with that of the gate.

The difference bypassed the gate: packets between neighbours on the link, and anything else that the chains do not
divert. For up, the packets that the gate released are compared; for down, those that it received, because dropped ones
have crossed the line already. If the gate counts more than the interface, it gets packets more than once.
"""

from collections import deque
from collections.abc import Callable, Iterable, Mapping
from typing import Final, NamedTuple

from wily_sluice.gate.kernel.machine import Crossed
from wily_sluice.plan.model import Uplink
from wily_sluice.units import DIRECTIONS, Direction, Size

WINDOW: Final = 60  # looks, which are seconds
MUCH: Final = 0.005  # of what crossed
TOO_MUCH: Final = 0.05  # of what crossed, by which the gate counts more
LEAST: Final[Size] = 200_000  # bytes of a window: what neighbours on a link say to each other, which is no IP, is less
FEW: Final[Size] = 1_000_000  # bytes of a window, of which nothing is concluded

Line = tuple[str, Direction]


class Moved(NamedTuple):
    """So many bytes of IP, in so many packets."""

    bytes: Size = 0
    packets: int = 0


class Account:
    """Of one direction of an uplink, in bytes since the gate began: `line` by its interface, `ours` by the gate."""

    def __init__(self) -> None:
        self.line: Size = 0
        self.ours: Size = 0
        self._before: tuple[Size, Size] | None = None
        self._recent: deque[tuple[Size, Size]] = deque(maxlen=WINDOW)

    def look(self, line: Size, ours: Size) -> None:
        """Both counters, now. The counters of a recreated interface start at 0."""
        before, self._before = self._before, (line, ours)
        if before is None or line < before[0] or ours < before[1]:
            return
        crossed, taken = line - before[0], ours - before[1]
        self.line += crossed
        self.ours += taken
        self._recent.append((crossed, taken))

    @property
    def past(self) -> float:
        """The fraction of recent traffic that bypassed the gate; negative if the gate counted more than crossed; 0 if
        there was too little traffic.
        """
        line, ours = (sum(part) for part in zip(*self._recent, strict=True)) if self._recent else (0, 0)
        return 1 - ours / line if max(line, ours) >= FEW and abs(line - ours) >= LEAST and line else 0.0


class BypassAudit:
    """Of all uplinks of a gate. `tell` is called with each event, its level and details."""

    def __init__(self, tell: Callable[..., None]) -> None:
        self._tell = tell
        self._told: set[Line] = set()
        self.accounts: dict[Line, Account] = {}

    def look(
        self,
        uplinks: Iterable[Uplink],
        crossed: Mapping[str, Crossed],
        headers: Mapping[str, Size],
        moved: Mapping[Line, Moved],
    ) -> None:
        """Compare again: `headers` are the bytes that each interface counts beyond the IP packet."""
        for uplink in uplinks:
            here = crossed.get(uplink.interface)
            if here is None:
                continue
            for direction in DIRECTIONS:
                key = uplink.name, direction
                ours = moved.get(key, Moved())
                account = self.accounts.setdefault(key, Account())
                line = here.up_bytes if direction == "up" else here.down_bytes
                account.look(line, ours.bytes + ours.packets * headers.get(uplink.interface, 0))
                past = account.past
                if past > MUCH and key not in self._told:
                    self._told.add(key)
                    about = {"uplink": uplink.name, "direction": direction, "part": round(past, 4)}
                    self._tell("uplink.bypassed", "warning", **about)
                elif -past > TOO_MUCH and key not in self._told:
                    self._told.add(key)
                    self._tell(
                        "uplink.overcounted", "error", uplink=uplink.name, direction=direction, part=round(-past, 4)
                    )
                elif -TOO_MUCH / 2 < past < MUCH / 2:
                    self._told.discard(key)

    def crossed(self) -> dict[str, dict[str, tuple[Size, Size]]]:
        """By uplink and direction: bytes counted by its interface, and by the gate."""
        crossed: dict[str, dict[str, tuple[Size, Size]]] = {}
        for (uplink, direction), account in self.accounts.items():
            crossed.setdefault(uplink, {})[direction] = account.line, account.ours
        return crossed

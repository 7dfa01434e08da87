"""Kinds of line, in plain words, with the framing and the headroom that suit each."""

from dataclasses import dataclass
from typing import Final


@dataclass(frozen=True, slots=True)
class LineKind:
    """`headroom` is in percent, up and down; `why` gives the reason."""

    name: str
    words: str
    framing: str
    up: int
    down: int
    why: str


LINE_KINDS: Final = {
    kind.name: kind
    for kind in (
        LineKind("fibre", "fibre without a login", "ethernet", 5, 5, "fibre keeps its rate, so little is left free"),
        LineKind("fibre-login", "fibre with a login", "pppoe", 5, 5, "fibre keeps its rate, so little is left free"),
        LineKind("copper-login", "copper with a login", "pppoe over ptm", 10, 10, "copper loses some rate on bad days"),
        LineKind("cable", "a cable modem", "ethernet over cable", 10, 15, "the street shares the cable, mostly down"),
        LineKind("router", "behind another router", "ethernet", 8, 8, "the other router may queue packets too"),
        LineKind("radio", "mobile or radio", "ip", 25, 25, "the rate of radio comes and goes"),
    )
}

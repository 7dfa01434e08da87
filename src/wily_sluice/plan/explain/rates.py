"""A rate in bytes, in packets, and in the time for a file."""

from wily_sluice.engine.framing import ETHERNET
from wily_sluice.units import (
    BYTE_TIME,
    SECOND,
    Nanoseconds,
    Rate,
    Size,
    format_byte_rate,
    format_rate,
    format_size,
    format_time,
)

FILE: Size = 1_000_000_000
FULL: Size = 1500  # bytes of an IP packet
CALL: Rate = 87_200  # bit/s of 50 packets a second of 200 bytes, with Ethernet's 18


def rate_facts(rate: Rate) -> list[tuple[str, str]]:
    """Facts about a rate above 0, in bit/s: pairs of a label and a value."""
    frame = ETHERNET.cost(FULL)
    return [
        ("bits", format_rate(rate)),
        ("bytes", format_byte_rate(rate)),
        (f"a file of {format_size(FILE)}", _long(FILE * BYTE_TIME // rate)),
        ("an hour", format_size(rate * 3600 / 8)),
        ("a month of 30 days", format_size(rate * 86_400 * 30 / 8)),
        (f"packets of {FULL} B", f"{rate / 8 / frame:,.0f} a second"),
        (f"one packet of {FULL} B takes", format_time(frame * BYTE_TIME // rate)),
        ("calls of 50 packets a second", f"{rate // CALL:,}"),
    ]


def _long(span: Nanoseconds) -> str:
    """A span that may be minutes, hours or days."""
    for unit, seconds in (("days", 86_400), ("h", 3600), ("min", 60)):
        if span >= 2 * seconds * SECOND:
            return f"{span / seconds / SECOND:.3g} {unit}"
    return format_time(span)

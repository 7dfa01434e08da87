"""Rates, sizes, times and shares: parsing and printing.

Rates are whole bit/s, sizes whole bytes, times whole nanoseconds. Prefixes are decimal: 1 Mbit/s is 1,000,000 bit/s and
1 MB/s is 8 Mbit/s; `Ki`, `Mi`, `Gi` (IEC 80000-13) are 1024, its square and its cube. A lower-case `b` is a bit and a
capital `B` a byte. If the case of the whole word leaves that open, the text is refused, and the message has both
readings.

Every parser raises ValueError with a message for the author of the text.
"""

import re
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo
from typing import Final, Literal, TypeAlias

Rate: TypeAlias = int  # bit/s
Size: TypeAlias = int  # bytes
Nanoseconds: TypeAlias = int
Direction: TypeAlias = Literal["up", "down"]  # up is toward the internet, down toward your hosts

DIRECTIONS: tuple[Direction, Direction] = ("down", "up")
SECOND: Final[Nanoseconds] = 1_000_000_000
MILLISECOND: Final[Nanoseconds] = 1_000_000
BYTE_TIME: Final = 8 * SECOND  # over a rate in bit/s: what one byte takes, in ns

MOST_QUOTED: Final = 40  # characters
HIGHEST_RATE: Final[Rate] = 1_000_000_000_000  # 1 Tbit/s: beyond any line this tool meets, so surely a slip of the pen

_PREFIXES: Final = {"": 1, "k": 10**3, "m": 10**6, "g": 10**9, "t": 10**12, "ki": 2**10, "mi": 2**20, "gi": 2**30}
_NUMBER: Final = r"(?P<number>[0-9]{1,18}(?:\.[0-9]{1,18})?)"
_RATE: Final = re.compile(
    _NUMBER + r"\s*(?P<prefix>(?:[kKmMgGtT]i?)?)(?P<unit>[bB][iI][tT][sS]?/s|[bB]ytes?/s|b/s|B/s|bps|Bps)$"
)
_SHOUTED_RATE: Final = re.compile(_NUMBER + r"\s*(?P<prefix>[KMGT]?)B(?:PS|/S)$")
_SIZE: Final = re.compile(_NUMBER + r"\s*(?P<prefix>(?:[kKmMgGtT]i?)?)(?:B|bytes?)$")
_TIME: Final = re.compile(_NUMBER + r"\s*(?P<unit>ns|us|µs|ms|s|min|m|h|d|days?)$")
_SHARE: Final = re.compile(_NUMBER + r"\s*%$")
_TIME_UNITS: Final = {
    "ns": 1,
    "us": 10**3,
    "µs": 10**3,
    "ms": MILLISECOND,
    "s": SECOND,
    "min": 60 * SECOND,
    "m": 60 * SECOND,
    "h": 3600 * SECOND,
    **dict.fromkeys(("d", "day", "days"), 86_400 * SECOND),
}


def quoted(value: object) -> str:
    """A user's text for use in a message: in quotes, in YAML syntax, and shortened."""
    if value is None:
        return "nothing"
    text = _as_written(value)
    return f"“{text if len(text) <= MOST_QUOTED else text[: MOST_QUOTED - 1] + '…'}”"


def _as_written(value: object) -> str:
    if value is None or isinstance(value, bool):
        return {None: "null", True: "true", False: "false"}[value]
    if isinstance(value, dict):
        return "{" + ", ".join(f"{_as_written(key)}: {_as_written(item)}" for key, item in value.items()) + "}"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(map(_as_written, value)) + "]"
    return str(value)


def parse_rate(text: object) -> Rate:
    """Read a rate such as `24 Mbit/s`, `3 MB/s` or `512 kbps`; in bit/s."""
    if isinstance(text, (int, float)) and not isinstance(text, bool):
        raise ValueError(f"{text:g} has no unit: is it {text:g} Mbit/s, or {text:g} kbit/s?")
    if not isinstance(text, str):
        raise ValueError("a rate is written like 24 Mbit/s")
    text = text.strip()
    if shouted := _SHOUTED_RATE.match(text):
        number, prefix = shouted["number"], shouted["prefix"]
        raise ValueError(
            f"{quoted(text)} could be bits or bytes: "
            f"write {number} {prefix}bit/s or {number} {prefix}B/s, 8 times as much"
        )
    match = _RATE.match(text)
    if match is None:
        hint = f"{text}/s" if re.match(_NUMBER + r"\s*[kKmMgG]?(bit|B)$", text) else "24 Mbit/s, 512 kbit/s or 3 MB/s"
        raise ValueError(f"{quoted(text)} is not a rate: write it like {hint}")
    unit = match["unit"]
    bits = 1 if (unit.startswith("b") and not unit.startswith("byte")) or unit[:3].lower() == "bit" else 8
    rate = round(float(match["number"]) * _PREFIXES[match["prefix"].lower()] * bits)
    if rate < 1:
        raise ValueError(f"{quoted(text)} is too low: a rate is at least 1 bit/s")
    if rate > HIGHEST_RATE:
        raise ValueError(f"{quoted(text)} is more than {format_rate(HIGHEST_RATE)}: is the prefix right?")
    return rate


def parse_share(text: object) -> float:
    """Read a percentage such as `12%`; as a fraction of 1, from 0 to 1."""
    match = _SHARE.match(text.strip()) if isinstance(text, str) else None
    if match is None:
        raise ValueError(f"{quoted(text)} is not a percentage: write it like 12%")
    share = float(match["number"]) / 100
    if share > 1:
        raise ValueError(f"{quoted(text)} is more than the whole: a percentage is at most 100%")
    return share


def parse_time(text: object) -> Nanoseconds:
    """Read a span of time such as `10 ms`, `5 min` or `7 days`; in nanoseconds."""
    match = _TIME.match(text.strip()) if isinstance(text, str) else None
    if match is None:
        raise ValueError(f"{quoted(text)} is not a span of time: write it like 10 ms, 5 min or 7 days")
    return round(float(match["number"]) * _TIME_UNITS[match["unit"]])


def parse_size(text: object) -> Size:
    """Read a size such as `1500 B`, `256 kB` or `40 GB`; in bytes."""
    match = _SIZE.match(text.strip()) if isinstance(text, str) else None
    if match is None:
        raise ValueError(f"{quoted(text)} is not a size: write it like 1500 B or 40 MB")
    return round(float(match["number"]) * _PREFIXES[match["prefix"].lower()])


def _scaled(value: float, unit: str, digits: int) -> str:
    for factor, prefix in ((10**12, "T"), (10**9, "G"), (10**6, "M"), (10**3, "k")):
        # 999.6 k would be printed as 1000 k, so the next prefix up begins where rounding would reach it.
        if value >= factor * (1 - 0.5 / 10**digits):
            return f"{float(f'{value / factor:.{digits}g}'):.{digits}g} {prefix}{unit}"
    return f"{float(f'{value:.{digits}g}'):.{digits}g} {unit}"


def format_rate(rate: float) -> str:
    """`22.1 Mbit/s`, to three significant figures: for messages and tables."""
    return _scaled(rate, "bit/s", 3)


def rates_apart(rate: float, other: float) -> tuple[str, str]:
    """Both as `format_rate` has them; rates that differ get as many figures as it takes to see that."""
    digits = next((d for d in range(3, 15) if _scaled(rate, "", d) != _scaled(other, "", d)), 3)
    return _scaled(rate, "bit/s", digits), _scaled(other, "bit/s", digits)


def exact_rate(rate: float) -> str:
    """`22.08 Mbit/s`, with all digits: for plans, and for values from plans."""
    return _scaled(rate, "bit/s", 15)


def format_byte_rate(rate: float) -> str:
    """`2.76 MB/s`, for a rate in bit/s."""
    return _scaled(rate / 8, "B/s", 3)


def format_rate_both(rate: float) -> str:
    """`22.1 Mbit/s (2.76 MB/s)`: for places where people mix bits with bytes."""
    return f"{format_rate(rate)} ({format_byte_rate(rate)})"


def format_size(size: float) -> str:
    """`1.52 MB`, to three significant figures: for messages and tables."""
    return _scaled(size, "B", 3)


def exact_size(size: float) -> str:
    """`1518 B`, with all digits: for plans, and for values from plans."""
    return _scaled(size, "B", 15)


def format_share(share: float) -> str:
    """`28.8%`, to three significant figures: for messages and tables."""
    return f"{float(f'{share * 100:.3g}'):g}%"


def exact_share(share: float) -> str:
    """`12.345%`, with all decimals: for plans, and for values from plans."""
    return f"{round(share * 100, 4):g}%"


def format_time(span: float) -> str:
    """`12.3 ms` for a span in nanoseconds, to three significant figures."""
    for factor, unit in ((SECOND, "s"), (MILLISECOND, "ms"), (1_000, "µs")):
        if span >= factor * 0.9995:
            return f"{float(f'{span / factor:.3g}'):g} {unit}"
    return f"{span:.0f} ns"


def transmission_time(size: Size, rate: Rate) -> Nanoseconds:
    """How long `size` bytes take on a line of `rate`, rounded down to the nanosecond."""
    return size * BYTE_TIME // rate


@dataclass(frozen=True, slots=True)
class Amount:
    """A rate that a person gave either outright or as a share of something else's rate. Exactly one is set."""

    rate: Rate | None = None
    share: float | None = None

    def of(self, whole: Rate) -> Rate:
        """The rate in bit/s, where a share is of `whole` bit/s."""
        if self.rate is not None:
            return self.rate
        assert self.share is not None
        return round(self.share * whole)

    def __str__(self) -> str:
        return exact_rate(self.rate) if self.rate is not None else exact_share(self.share or 0)


def parse_amount(text: object) -> Amount:
    """Read a rate or a percentage."""
    if isinstance(text, str) and text.strip().endswith("%"):
        return Amount(share=parse_share(text))
    try:
        return Amount(rate=parse_rate(text))
    except ValueError as error:
        if not isinstance(text, (int, float)) or isinstance(text, bool):
            raise
        raise ValueError(f"{error} Or {text}%?") from None


def iso_time(at: float, zone: tzinfo = UTC, precision: str = "auto") -> str:
    """A moment in seconds since 1970 as RFC 3339 has it, to a `precision` of `datetime.isoformat`."""
    return datetime.fromtimestamp(at, zone).isoformat(timespec=precision).replace("+00:00", "Z")


def span_words(seconds: float) -> str:
    """`3 min 20 s`, `2 d 4 h`: the two largest units."""
    words: list[str] = []
    left = round(seconds)
    for unit, size in (("d", 86_400), ("h", 3600), ("min", 60), ("s", 1)):
        if left >= size or (unit == "s" and not words):
            words.append(f"{left // size} {unit}")
            left %= size
    return " ".join(words[:2])

"""Values as a person writes them: a parser for each kind, which raises ValueError with a message fit for the person."""

import re
import shlex
from ipaddress import ip_address
from typing import Any
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError, available_timezones

from wily_sluice.engine.classify.service import PROTOCOLS_SEEN
from wily_sluice.engine.limit.limiter import Excess, Per, Whom
from wily_sluice.engine.packet import Framing
from wily_sluice.engine.queueing.spec import (
    LeafSpec,
)
from wily_sluice.plan.file.framings import parse_stack
from wily_sluice.plan.file.traffic_words import (
    parse_dscp,
)
from wily_sluice.plan.file.words import parse_hardware, suggestion
from wily_sluice.plan.mark_field import BITS
from wily_sluice.plan.model import USUAL_HEADROOM, Burst, Directional, FramingWords, HostsBy, Period, Quota, RateSpan
from wily_sluice.units import (
    SECOND,
    Amount,
    Nanoseconds,
    Rate,
    Size,
    parse_amount,
    parse_rate,
    parse_share,
    parse_size,
    parse_time,
    quoted,
)

FRAMING_FIGURES = {"carried-in", "shortest-frame", "frame-adds"}
COLLECTOR_PORT = 4739  # of IPFIX (RFC 7011 §10.3.4)
LONGEST_LIFETIME = 24 * 3600 * SECOND  # of a mapping (RFC 6887 §15)
SHORTEST_RETENTION, LONGEST_RETENTION = 3600 * SECOND, 400 * 86_400 * SECOND  # of names that hosts spoke with


def parse_interface(text: object) -> str:
    """The name of a network interface."""
    # The kernel allows 15 characters, none of them a slash or a space.
    if not isinstance(text, str) or not re.fullmatch(r"[^\s/%]{1,15}", text) or text in (".", ".."):
        raise ValueError(f"{quoted(text)} is not a valid interface name: at most 15 characters, such as wan0")
    return text


def _zones(text: str) -> list[str]:
    """The time zones whose last part is this word, or all of them."""
    zones = sorted(available_timezones())
    return [zone for zone in zones if zone.rpartition("/")[2].lower() == text.lower()][:1] or zones


def parse_timezone(text: object) -> str:
    """A time zone of the IANA database."""
    try:
        ZoneInfo(str(text))
    except (ZoneInfoNotFoundError, ValueError, OSError):
        zones = _zones(str(text))
        word = zones[0] if len(zones) == 1 else str(text)
        hint = suggestion(word, zones, "write it like Europe/Dublin")
        raise ValueError(f"{quoted(text)} is not a time zone: {hint}") from None
    return str(text)


def parse_directional_amount(value: object) -> Directional[Amount]:
    """A rate or a share, for both directions or for each."""
    if isinstance(value, Directional):
        return value
    if not isinstance(value, dict):
        amount = parse_amount(value)
        return Directional(amount, amount)
    if strange := [key for key in value if key not in ("up", "down")]:
        raise ValueError(f"{quoted(strange[0])} is not a direction: use up (toward the internet) or down")
    if not value:
        raise ValueError("neither up nor down is given")
    return Directional(*(parse_amount(value[key]) if key in value else None for key in ("up", "down")))


def parse_headroom(value: object) -> Directional[float]:
    """A percentage, for both directions or for each; one that is not given has the usual one."""
    if isinstance(value, Directional):
        return value
    if not isinstance(value, dict):
        share = parse_share(value)
        return Directional(share, share)
    if not value or set(value) - {"up", "down"}:
        raise ValueError("write a percentage, or {up: 15%, down: 5%}")
    return Directional(*(parse_share(value[key]) if key in value else USUAL_HEADROOM for key in ("up", "down")))


def parse_cap(value: object) -> Directional[Amount]:
    """The same, but refuses 0%."""
    caps = parse_directional_amount(value)
    if any(cap is not None and cap.share == 0 for cap in (caps.up, caps.down)):
        raise ValueError("a cap of 0% blocks the queue: write one above 0%, or block the traffic in the firewall")
    return caps


def parse_tree_names(value: object) -> Directional[str]:
    """One tree for both directions, or `{up: …, down: …}`."""
    if isinstance(value, Directional):
        return value
    names = value if isinstance(value, dict) else {"up": value, "down": value}
    if not names or set(names) - {"up", "down"} or not all(isinstance(name, str) for name in names.values()):
        raise ValueError("name one tree, or {up: one, down: another}")
    return Directional(names.get("up"), names.get("down"))


def parse_queue_words(value: object) -> dict[str, str]:
    """A queue's name in every tree that has it (under the empty name), or the queue for each tree."""
    names: dict[Any, Any] = value if isinstance(value, dict) else {"": value}
    if not names or not all(isinstance(name, str) and isinstance(queue, str) for name, queue in names.items()):
        raise ValueError("name a queue, or {one-tree: queue, another-tree: queue}")
    return names


def parse_limit(value: object) -> LeafSpec | None:
    """A leaf's limit, in packets, bytes or time; the rest of the specification as it is by default."""
    if value is None or isinstance(value, LeafSpec):
        return value
    packets = re.fullmatch(r"(\d+)\s*packets?", value.strip()) if isinstance(value, str) else None
    if packets and int(packets[1]):
        return LeafSpec(most_packets=int(packets[1]))
    for parse, make in ((parse_size, _limit_in_bytes), (parse_time, _limit_in_time)):
        try:
            return make(parse(value))
        except ValueError:
            continue
    raise ValueError(f"{quoted(value)} is not a limit: write it like 200 packets, 64 kB or 50 ms")


def _limit_in_bytes(size: Size) -> LeafSpec:
    return LeafSpec(most_bytes=size)


def _limit_in_time(longest: Nanoseconds) -> LeafSpec:
    return LeafSpec(longest=longest)


def parse_per(value: object) -> Per:
    """Who shares a bucket."""
    if isinstance(value, Per):
        return value
    match = re.fullmatch(r"(together|host|address|network|conversation)|subnet/(\d{1,3})", str(value))
    if match is None or int(match[2] or 1) not in range(1, 129):
        raise ValueError(
            f"{quoted(value)} is not valid: use host, address, subnet/28, network, conversation or together"
        )
    if match[2] is None:
        whom: Whom = match[1]  # type: ignore[assignment]  # the expression allows no other words
        return Per(whom)
    length = int(match[2])
    # One length serves both versions: up to 32 it is of IPv4, and IPv6 has its usual subnets; beyond, it is of IPv6.
    return Per("subnet", length) if length <= 32 else Per("subnet", 32, length)


def parse_burst(value: object) -> Burst | None:
    """A burst as a size, or as time at the rate."""
    if value is None or isinstance(value, Burst):
        return value
    for parse, is_size in ((parse_size, True), (parse_time, False)):
        try:
            amount = parse(value)
        except ValueError:
            continue
        if amount > 0:
            return Burst(size=amount) if is_size else Burst(time=amount)
    raise ValueError(f"{quoted(value)} is not a burst: write it like 64 kB or 100 ms")


def parse_excess(value: object) -> tuple[Excess, int]:
    """What happens to the excess: `wait`, `drop`, or `mark` and a DSCP."""
    if isinstance(value, tuple):
        return value
    word, _, mark = str(value).partition(" ")
    if word == "wait" and not mark:
        return "wait", 0
    if word == "drop" and not mark:
        return "drop", 0
    if word == "mark" and mark:
        return "mark", parse_dscp(int(mark) if mark.isascii() and mark.isdigit() else mark)[0]
    raise ValueError(f"{quoted(value)} is not valid: use wait, drop, or mark with a DSCP (mark LE)")


def parse_directional_rate(value: object) -> Directional[Rate] | None:
    """A rate, for both directions or for each."""
    if value is None or isinstance(value, Directional):
        return value
    if not isinstance(value, dict):
        rate = parse_rate(value)
        return Directional(rate, rate)
    if not value or set(value) - {"up", "down"}:
        raise ValueError("write a rate, or {up: 2 Mbit/s, down: 12 Mbit/s}")
    return Directional(*(parse_rate(value[key]) if key in value else None for key in ("up", "down")))


def parse_advertised(value: object) -> Directional[Rate]:
    """Rates that were advertised, for one direction or both."""
    return parse_directional_rate(value) or Directional(None, None)


def parse_engage(value: object) -> float:
    """`above 80%`, as a part of 1."""
    if isinstance(value, float):
        return value
    words = str(value).split()
    if len(words) != 2 or words[0] != "above":
        raise ValueError(f"{quoted(value)}: write how busy the line must be, like above 80%")
    share = parse_share(words[1])
    if not 0.1 <= share <= 1:
        raise ValueError(f"{quoted(value)}: from 10% to 100% of the usable rate")
    return share


def parse_quota(value: object) -> Quota:
    """`40 GB per month`."""
    if isinstance(value, Quota):
        return value
    words = str(value).split()
    if len(words) not in (3, 4) or words[-2] != "per" or words[-1] not in ("month", "week", "day"):
        raise ValueError(
            f"{quoted(value)} is not a quota: write it like 40 GB per month, 10 GB per week or 2 GB per day"
        )
    size = parse_size(" ".join(words[:-2]))
    if size < 1:
        raise ValueError(f"{quoted(value)} leaves nothing: at least 1 B")
    period: Period = "month" if words[-1] == "month" else "week" if words[-1] == "week" else "day"
    return Quota(size, period)


def parse_rate_span(value: object) -> RateSpan:
    """A rate, or two between which it varies: `8 to 40 Mbit/s`, `900 kbit/s to 20 Mbit/s`."""
    if isinstance(value, RateSpan):
        return value
    if not isinstance(value, str) or " to " not in value:
        return RateSpan(parse_rate(value))
    first, last = (part.strip() for part in value.split(" to ", 1))
    unit = last.lstrip("0123456789. ")
    lowest, highest = parse_rate(first if first[-1:].isalpha() else f"{first} {unit}"), parse_rate(last)
    if lowest >= highest:
        raise ValueError(f"{quoted(value)} begins with the higher rate: write it like 8 to 40 Mbit/s")
    return RateSpan(highest, lowest)


def parse_framing(value: object) -> FramingWords:
    """A framing by its layers, or by its figures."""
    if isinstance(value, FramingWords):
        return value
    if isinstance(value, str):
        stack = parse_stack(value)
        return FramingWords(stack.framing, stack.words)
    if not isinstance(value, dict) or not value or set(value) - FRAMING_FIGURES:
        raise ValueError(
            "a framing is layers, such as pppoe over ptm, or figures: "
            "{carried-in: ptm, shortest-frame: 64 B, frame-adds: 34 B}"
        )
    sizes = {key: parse_size(value[key]) for key in FRAMING_FIGURES - {"carried-in"} if key in value}
    cells = value.get("carried-in")
    if cells not in (None, "atm", "ptm"):
        raise ValueError(f"frames are carried in atm or ptm, not in {quoted(cells)}")
    framing = Framing(sizes.get("frame-adds", 0), sizes.get("shortest-frame", 0), cells)
    return FramingWords(framing, f"{framing.overhead} B" + (f" in {cells} cells" if cells else ""))


def parse_delay(value: object) -> Nanoseconds:
    """A delay or a round trip: more than nothing."""
    delay = parse_time(value)
    if delay < 1:
        raise ValueError(f"{quoted(value)} is too short: write it like 10 ms")
    return delay


def parse_budget(value: object) -> tuple[float, str]:
    """How much of a quota a route may use: `under 80% of quota`, or of a limiter's by its name."""
    words = value.split() if isinstance(value, str) else []
    if len(words) != 4 or (words[0], words[2]) != ("under", "of"):
        raise ValueError(f"{quoted(value)} is not a part of a quota: write it like under 80% of quota")
    return parse_share(words[1]), words[3]


def parse_hosts_by(value: object) -> HostsBy:
    """How hosts of a network are told apart: `by device`, `by address`."""
    words = str(value).split()
    match words[1:] if words[:1] == ["by"] else words:
        case ["device"]:
            return "device"
        case ["address"]:
            return "address"
    raise ValueError(f"{quoted(value)} does not tell hosts apart: use by device or by address")


def parse_lifetime(value: object) -> Nanoseconds:
    """How long a mapping lasts without being asked for again."""
    span = parse_time(value)
    if not SECOND <= span <= LONGEST_LIFETIME:
        raise ValueError(f"{quoted(value)} is out of range: 1 s to 24 h")
    return span


def parse_as_number(word: object) -> tuple[str]:
    """The number of an autonomous system (RFC 6793): `64503`, `AS64503`."""
    text = str(word).upper().removeprefix("AS")
    if isinstance(word, bool) or not (text.isascii() and text.isdigit() and int(text) < 2**32):
        raise ValueError(f"{quoted(word)} is not the number of an autonomous system: write it like 64503")
    return (str(int(text)),)


def parse_country(word: object) -> tuple[str]:
    """A country's code of two letters (ISO 3166-1)."""
    if not isinstance(word, str) or not re.fullmatch("[A-Za-z]{2}", word):
        raise ValueError(f"{quoted(word)} is not a country code: write two letters, like XA")
    return (word.upper(),)


def parse_seen(word: object) -> tuple[str]:
    """A protocol that can be recognised."""
    if not isinstance(word, str) or word not in PROTOCOLS_SEEN:
        raise ValueError(f"{quoted(word)} cannot be recognised: {suggestion(str(word), list(PROTOCOLS_SEEN))}")
    return (word,)


def parse_mark(value: object) -> int | None:
    """A DSCP."""
    return None if value is None else parse_dscp(value)[0]


def parse_remotes(words: tuple[str, ...]) -> tuple[str, ...]:
    """Addresses of remotes to ask whether they answer."""
    for word in words:
        try:
            ip_address(word)
        except ValueError:
            raise ValueError(f"{quoted(word)} is not an address: write it like 198.51.100.10") from None
    return words


def parse_collector(value: object) -> tuple[str, int]:
    """An address with a port, as `192.0.2.9:4739` or `[2001:db8::9]:4739`; the default port is 4739."""
    word = str(value).strip()
    host, port = word, str(COLLECTOR_PORT)
    if word.startswith("[") or word.count(":") == 1:
        host, _, port = word.rpartition(":") if not word.endswith("]") else (word, "", port)
    host = host.removeprefix("[").removesuffix("]")
    try:
        ip_address(host)
        number = int(port)
    except ValueError:
        raise ValueError(
            f"{quoted(word)} is not a valid collector: write an address, or one with a port, 192.0.2.9:4739"
        ) from None
    if not 0 < number < 65_536:
        raise ValueError(f"port {number} is out of range: 1 to 65535")
    return host, number


def parse_mark_bits(value: object) -> tuple[int, int]:
    """Bits of the firewall mark, as `24-30`: the lowest and the highest."""
    low, dash, high = str(value).partition("-")
    if not (dash and low.strip().isdigit() and high.strip().isdigit()):
        raise ValueError(f"{quoted(value)} is not a range of bits: write the lowest and the highest, such as 24-30")
    lowest, highest = int(low), int(high)
    if not lowest < highest < BITS:
        raise ValueError(f"{quoted(value)} is out of range: bits count from 0 to {BITS - 1}, the lower one first")
    return lowest, highest


def parse_host_addresses(words: tuple[str, ...]) -> tuple[str, ...]:
    """Addresses of one host; hardware addresses may be among them."""
    for word in words:
        if parse_hardware(word) is None:
            try:
                ip_address(word)
            except ValueError:
                remedy = "write one like 10.61.0.21 or 02:00:5e:10:00:21; for several hosts, write a group"
                raise ValueError(f"{quoted(word)} is not the address of a host: {remedy}") from None
    return words


def parse_hardware_words(words: tuple[str, ...]) -> tuple[str, ...]:
    """Hardware addresses of one host."""
    for word in words:
        if parse_hardware(word) is None:
            raise ValueError(f"{quoted(word)} is not a hardware address: write it like 02:00:5e:10:00:21")
    return words


def parse_notify(word: str) -> str:
    """Where notices go: a web address, or a command with its whole path."""
    if word.startswith(("http://", "https://")):
        if not urlsplit(word).hostname:
            raise ValueError(f"{quoted(word)} has no host: write it like https://notices.example/sluice")
        return word
    try:
        words = shlex.split(word)
    except ValueError as error:
        raise ValueError(f"{quoted(word)} cannot be read as a command: {error}") from None
    if not words or not words[0].startswith("/"):
        raise ValueError(f"{quoted(word)} is neither a web address nor a command with its whole path")
    return word


def parse_retention(value: object) -> Nanoseconds:
    """How long names are kept, in nanoseconds."""
    span = parse_time(value)
    if not SHORTEST_RETENTION <= span <= LONGEST_RETENTION:
        raise ValueError(f"{quoted(value)} is out of range: 1 h to 400 days")
    return span

"""The plan file as the person writes it: every key, what it may hold, and an example for each.

This is where outside data comes in; nothing deeper checks types again. References between the parts (a rule's queue,
a limiter's group) are not followed here but in `read`.
"""

import re
from collections.abc import Iterator
from datetime import date
from ipaddress import ip_address
from typing import TYPE_CHECKING, Annotated, Any, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, create_model

from wily_sluice.engine.classify.known import PROTOCOLS_SEEN
from wily_sluice.engine.framing import ETHERNET, NAMED, Framing
from wily_sluice.engine.limit.limiter import Excess, Per, Whom
from wily_sluice.engine.queueing.spec import (
    FIRST_PRIORITY,
    LAST_PRIORITY,
    USUAL_PRIORITY,
    Aqm,
    Discipline,
    FairBy,
    LeafSpec,
)
from wily_sluice.plan.fields.registry import FIELDS
from wily_sluice.plan.file.addresses import parse_prefix
from wily_sluice.plan.file.document import suggestion
from wily_sluice.plan.file.traffic_words import (
    parse_dscp,
    parse_host_name,
    parse_protocol,
    parse_service_port,
)
from wily_sluice.plan.file.words import Name, PortWords, Words, flat, listed
from wily_sluice.plan.model import USUAL_ROUND_TRIP, Burst, Directional, FramingWords, Period, Quota
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

SHORTEST_RETENTION, LONGEST_RETENTION = 3600 * SECOND, 400 * 86_400 * SECOND  # of names that hosts spoke with


def _interface(text: object) -> str:
    # The kernel allows 15 characters, none of them a slash or a space.
    if not isinstance(text, str) or not re.fullmatch(r"[^\s/%]{1,15}", text) or text in (".", ".."):
        raise ValueError(f"{quoted(text)} is no interface name: at most 15 characters, such as wan0")
    return text


def _timezone(text: object) -> str:
    try:
        ZoneInfo(str(text))
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueError(f"{quoted(text)} is no time zone: write it like Europe/Dublin") from None
    return str(text)


def _directional_amount(value: object) -> Directional[Amount]:
    if isinstance(value, Directional):
        return value
    if not isinstance(value, dict):
        amount = parse_amount(value)
        return Directional(amount, amount)
    if strange := [key for key in value if key not in ("up", "down")]:
        raise ValueError(f"{quoted(strange[0])} is no direction: there are up (toward the internet) and down")
    if not value:
        raise ValueError("neither up nor down is given")
    return Directional(*(parse_amount(value[key]) if key in value else None for key in ("up", "down")))


def _cap(value: object) -> Directional[Amount]:
    caps = _directional_amount(value)
    if any(cap is not None and cap.share == 0 for cap in (caps.up, caps.down)):
        raise ValueError("a cap of 0% lets nothing through: write one above 0%, or drop what is not to pass elsewhere")
    return caps


def _tree_names(value: object) -> Directional[str]:
    """One tree for both directions, or `{up: …, down: …}`."""
    if isinstance(value, Directional):
        return value
    names = value if isinstance(value, dict) else {"up": value, "down": value}
    if not names or set(names) - {"up", "down"} or not all(isinstance(name, str) for name in names.values()):
        raise ValueError("name one tree, or {up: one, down: another}")
    return Directional(names.get("up"), names.get("down"))


def _queue_words(value: object) -> dict[str, str]:
    """A queue's name in every tree that has it (under the empty name), or the queue for each tree."""
    names: dict[Any, Any] = value if isinstance(value, dict) else {"": value}
    if not names or not all(isinstance(name, str) and isinstance(queue, str) for name, queue in names.items()):
        raise ValueError("name a queue, or {one-tree: queue, another-tree: queue}")
    return names


Interface = Annotated[str, BeforeValidator(_interface)]
RateText = Annotated[Rate, BeforeValidator(parse_rate)]
ShareText = Annotated[float, BeforeValidator(parse_share)]
Amounts = Annotated[Any, BeforeValidator(_directional_amount)]
Subnet = Annotated[str, BeforeValidator(lambda value: str(parse_prefix(value)))]


def _limit(value: object) -> LeafSpec | None:
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
    raise ValueError(f"{quoted(value)} is no limit: write it like 200 packets, 64 kB or 50 ms")


def _limit_in_bytes(size: Size) -> LeafSpec:
    return LeafSpec(most_bytes=size)


def _limit_in_time(longest: Nanoseconds) -> LeafSpec:
    return LeafSpec(longest=longest)


def _per(value: object) -> Per:
    if isinstance(value, Per):
        return value
    match = re.fullmatch(r"(together|host|address|conversation)|subnet/(\d{1,3})", str(value))
    if match is None or int(match[2] or 1) not in range(1, 129):
        raise ValueError(f"{quoted(value)} is nobody: write host, address, conversation, together, or subnet/28")
    if match[2] is None:
        whom: Whom = match[1]  # type: ignore[assignment]  # the expression allows no other words
        return Per(whom)
    length = int(match[2])
    # One length serves both versions: up to 32 it is of IPv4, and IPv6 has its usual subnets; beyond, it is of IPv6.
    return Per("subnet", length) if length <= 32 else Per("subnet", 32, length)


def _burst(value: object) -> Burst | None:
    if value is None or isinstance(value, Burst):
        return value
    for parse, is_size in ((parse_size, True), (parse_time, False)):
        try:
            amount = parse(value)
        except ValueError:
            continue
        if amount > 0:
            return Burst(size=amount) if is_size else Burst(time=amount)
    raise ValueError(f"{quoted(value)} is no burst: write it like 64 kB or 100 ms")


def _excess(value: object) -> tuple[Excess, int]:
    if isinstance(value, tuple):
        return value
    word, _, mark = str(value).partition(" ")
    if word == "wait" and not mark:
        return "wait", 0
    if word == "drop" and not mark:
        return "drop", 0
    if word == "mark" and mark:
        return "mark", parse_dscp(int(mark) if mark.isascii() and mark.isdigit() else mark)[0]
    raise ValueError(
        f"{quoted(value)} is not what can be done with it: write wait, drop, or mark with a DSCP, like mark LE"
    )


def _directional_rate(value: object) -> Directional[Rate] | None:
    if value is None or isinstance(value, Directional):
        return value
    if not isinstance(value, dict):
        rate = parse_rate(value)
        return Directional(rate, rate)
    if not value or set(value) - {"up", "down"}:
        raise ValueError("write a rate, or {up: 2 Mbit/s, down: 12 Mbit/s}")
    return Directional(*(parse_rate(value[key]) if key in value else None for key in ("up", "down")))


def _engage(value: object) -> float:
    if isinstance(value, float):
        return value
    words = str(value).split()
    if len(words) != 2 or words[0] != "above":
        raise ValueError(f"{quoted(value)}: write how busy the line must be, like above 80%")
    share = parse_share(words[1])
    if not 0.1 <= share <= 1:
        raise ValueError(f"{quoted(value)}: from 10% to 100% of the usable rate")
    return share


def _quota(value: object) -> Quota:
    if isinstance(value, Quota):
        return value
    match = re.fullmatch(r"(.+?)\s+per\s+(month|week|day)", str(value).strip())
    if match is None:
        raise ValueError(f"{quoted(value)} is no quota: write it like 40 GB per month, 10 GB per week or 2 GB per day")
    size = parse_size(match[1])
    if size < 1:
        raise ValueError(f"{quoted(value)} leaves nothing: at least 1 B")
    period: Period = "month" if match[2] == "month" else "week" if match[2] == "week" else "day"
    return Quota(size, period)


def _list_is(key: str) -> BeforeValidator:
    """Where a list, or a single word, may stand for a mapping with this one key."""

    def mapping(value: object) -> object:
        return value if isinstance(value, (dict, BaseModel)) else {key: value}

    return BeforeValidator(mapping)


def _framing(value: object) -> FramingWords:
    if isinstance(value, FramingWords):
        return value
    if isinstance(value, str):
        if value not in NAMED:
            raise ValueError(f"there is no framing {quoted(value)}: {suggestion(value, list(NAMED))}")
        return FramingWords(NAMED[value], value)
    if not isinstance(value, dict) or not value or set(value) - {"overhead", "minimum", "cells"}:
        raise ValueError("a framing is a name such as pppoe over ptm, or {overhead: 34 B, minimum: 64 B, cells: ptm}")
    sizes = {key: parse_size(value[key]) for key in ("overhead", "minimum") if key in value}
    cells = value.get("cells")
    if cells not in (None, "atm", "ptm"):
        raise ValueError(f"cells are atm or ptm, not {quoted(cells)}")
    framing = Framing(sizes.get("overhead", 0), sizes.get("minimum", 0), cells)
    return FramingWords(framing, f"{framing.overhead} B" + (f" in {cells} cells" if cells else ""))


class Entry(BaseModel):
    """A mapping of the file: no key but the known ones."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class UplinkEntry(Entry):
    """A line to the internet, with what it measured."""

    interface: Interface = Field(examples=["wan0"])
    down: RateText = Field(examples=["180 Mbit/s"])
    up: RateText = Field(examples=["24 Mbit/s"])
    headroom: ShareText = Field(default=0.08, examples=["8%"])
    framing: Annotated[FramingWords, BeforeValidator(_framing)] = Field(
        default=FramingWords(ETHERNET, "ethernet"), examples=["pppoe over ptm"]
    )
    tree: Annotated[Any, BeforeValidator(_tree_names)] = Field(default=Directional(None, None), examples=["main"])


class NetworkEntry(Entry):
    """Hosts behind one interface of the gateway."""

    interface: Interface = Field(examples=["lan0"])
    subnets: Annotated[list[Subnet], Field(min_length=1)] = Field(examples=["[10.61.0.0/24]"])


class QueueEntry(Entry):
    """A queue; a parent where it has `queues`."""

    guarantee: Amounts = Field(default=Directional(None, None), examples=["12%"])
    cap: Annotated[Any, BeforeValidator(_cap)] = Field(default=Directional(None, None), examples=["80%"])
    priority: Annotated[int, Field(ge=FIRST_PRIORITY, le=LAST_PRIORITY, strict=True)] = Field(
        default=USUAL_PRIORITY, examples=["5, from 1 (first) to 9 (last)"]
    )
    weight: Annotated[float, Field(ge=0.001, le=10_000)] = Field(default=1.0, examples=["2"])
    default: bool = False
    discipline: Discipline | None = Field(default=None, examples=["weighted"])
    queues: dict[Name, "QueueEntry"] | None = None
    delay: Annotated[Nanoseconds, BeforeValidator(parse_time)] | None = Field(default=None, examples=["10 ms"])
    aqm: Aqm | None = Field(default=None, examples=["fq-codel"])
    fair_by: FairBy | None = Field(default=None, alias="fair-by", examples=["host"])
    ecn: bool | None = Field(default=None, examples=["false"])
    limit: Annotated[Any, BeforeValidator(_limit)] = Field(default=None, examples=["200 packets"])


class TreeEntry(Entry):
    """A tree of queues."""

    discipline: Discipline = Field(default="weighted", examples=["weighted"])
    queues: dict[Name, QueueEntry] = Field(examples=["{rest: {default: true}}"])


class GroupEntry(Entry):
    """A name for hosts or ports. A list alone is a list of members."""

    members: Words = Field(default=(), examples=["[10.61.0.40-10.61.0.59]"])
    except_: Words = Field(default=(), alias="except", examples=["[console]"])
    ports: PortWords = Field(default=(), examples=["[443, 8000-8100]"])
    file: str | None = Field(default=None, examples=["partners.csv"])
    database: str | None = Field(default=None, examples=["places.mmdb"])
    where: dict[str, Words] = Field(default={}, examples=["{country.iso_code: [XA]}"])


class ScheduleEntry(Entry):
    """When something holds. A list alone is a list of windows."""

    windows: Annotated[tuple[Any, ...], BeforeValidator(lambda value: tuple(listed(value)))] = Field(
        default=(), examples=["[mon-fri 08:00-18:30, sat 09:00-13:00]"]
    )
    calendar: Words = Field(default=(), examples=["[holidays.ics]"])


class LimiterEntry(Entry):
    """A cap for whoever it names."""

    local: Words | None = Field(default=None, examples=["waiting-room"])
    remote: Words | None = Field(default=None, examples=["203.0.113.0/24"])
    network: Words | None = Field(default=None, examples=["waiting-room"])
    uplink: str | None = Field(default=None, examples=["fibre"])
    service: Words | None = Field(default=None, examples=["swarms"])
    protocol: Annotated[tuple[int, ...], flat(parse_protocol)] | None = Field(default=None, examples=["udp"])
    port: PortWords | None = Field(default=None, examples=["443"])
    per: Annotated[Per, BeforeValidator(_per)] = Field(default=Per(), examples=["host"])
    down: RateText | None = Field(default=None, examples=["6 Mbit/s"])
    up: RateText | None = Field(default=None, examples=["1 Mbit/s"])
    burst: Annotated[Any, BeforeValidator(_burst)] = Field(default=None, examples=["100 ms"])
    round_trip: Annotated[Nanoseconds, BeforeValidator(parse_time)] = Field(
        default=USUAL_ROUND_TRIP, alias="round-trip", examples=["40 ms"]
    )
    excess: Annotated[tuple[Excess, int], BeforeValidator(_excess)] = Field(default=("wait", 0), examples=["drop"])
    excess_burst: Annotated[Any, BeforeValidator(_burst)] = Field(
        default=None, alias="excess-burst", examples=["30 kB"]
    )
    peak: Annotated[Any, BeforeValidator(_directional_rate)] = Field(default=None, examples=["12 Mbit/s"])
    engage: Annotated[float, BeforeValidator(_engage)] | None = Field(default=None, examples=["above 80%"])
    when: str | None = Field(default=None, examples=["opening-hours"])
    quota: Annotated[Quota, BeforeValidator(_quota)] | None = Field(default=None, examples=["40 GB per month"])
    quota_from: Annotated[float, BeforeValidator(parse_share)] = Field(default=1.0, alias="from", examples=["80%"])
    starts: int | str | None = Field(default=None, examples=["15"])
    enabled: bool = True
    note: str = ""


def _seen(word: object) -> tuple[str]:
    if not isinstance(word, str) or word not in PROTOCOLS_SEEN:
        raise ValueError(
            f"{quoted(word)} is nothing that can be recognized: {suggestion(str(word), list(PROTOCOLS_SEEN))}"
        )
    return (word,)


def _mark(value: object) -> int | None:
    return None if value is None else parse_dscp(value)[0]


def _fields() -> dict[str, Any]:
    """What pydantic makes of the fields of a rule."""
    return {
        field.attribute: (field.entry | None, Field(default=None, alias=field.key, examples=[field.example]))
        for field in FIELDS
    }


if TYPE_CHECKING:
    _Asked = Entry
else:
    _Asked = create_model("_Asked", __base__=Entry, **_fields())


class TermsEntry(_Asked):
    """What a conversation must be: all fields that are there, of those in `fields.registry`, and all blocks."""

    any_: Annotated[list["TermsEntry | None"], BeforeValidator(listed)] = Field(
        default=[], alias="any", examples=["[{port: 443}, {dscp: EF}]"]
    )
    all_: Annotated[list["TermsEntry | None"], BeforeValidator(listed)] = Field(
        default=[], alias="all", examples=["[{port: 443}, {dscp: EF}]"]
    )
    not_: Annotated[list["TermsEntry | None"], BeforeValidator(listed)] = Field(
        default=[], alias="not", examples=["{remote: specialist}"]
    )

    def said(self, key: str) -> Any:
        """What stands in a field; None where it is not there."""
        return getattr(self, key.replace("-", "_"))

    def walk(self) -> "Iterator[TermsEntry]":
        """These, and all within them."""
        yield self
        for part in (*self.any_, *self.all_, *self.not_):
            if part is not None:
                yield from part.walk()


class RuleEntry(TermsEntry):
    """Which conversations go to which queue."""

    name: str | None = Field(default=None, examples=["Handsets"])
    queue: Annotated[dict[str, str], BeforeValidator(_queue_words)] | None = Field(default=None, examples=["calls"])
    mark: Annotated[int | None, BeforeValidator(_mark)] = Field(default=None, examples=["EF"])
    enabled: bool = True
    note: str = ""


class ServiceEntry(Entry):
    """The signs by which a service is told."""

    about: str = ""
    category: Name | None = Field(default=None, examples=["play"])
    seen: Annotated[tuple[str, ...], flat(_seen)] = Field(default=(), examples=["[rtp, stun]"])
    over: Annotated[tuple[str, ...], flat(_seen)] = Field(default=(), examples=["[tls]"])
    ports: Annotated[tuple[tuple[int, tuple[int, int]], ...], flat(parse_service_port)] = Field(
        default=(), examples=["[27000-27010/udp, 443]"]
    )
    names: Annotated[tuple[str, ...], flat(lambda word: (parse_host_name(word),))] = Field(
        default=(), examples=["['*.league.example']"]
    )
    remote: Words | None = Field(default=None, examples=["203.0.113.0/24"])
    shape: Literal["interactive", "bulk"] | None = Field(default=None, examples=["interactive"])


class CatalogueEntry(Entry):
    """A file of services."""

    category: Name = Field(examples=["play"])
    dated: date | None = Field(default=None, examples=["2026-11-23"])
    about: str = ""
    services: dict[Name, ServiceEntry] = Field(examples=["{league: {ports: [27000-27010/udp]}}"])


def _remotes(words: tuple[str, ...]) -> tuple[str, ...]:
    for word in words:
        try:
            ip_address(word)
        except ValueError:
            raise ValueError(f"{quoted(word)} is no address: write one such as 198.51.100.10") from None
    return words


def _retention(value: object) -> Nanoseconds:
    span = parse_time(value)
    if not SHORTEST_RETENTION <= span <= LONGEST_RETENTION:
        raise ValueError(f"{quoted(value)} is no time to keep names for: from 1 h to 400 days")
    return span


class GateEntry(Entry):
    """What the gate does beside shaping."""

    watchers: str | None = Field(default=None, examples=["everyone"])
    health: Annotated[Words, AfterValidator(_remotes)] = Field(default=(), examples=["[198.51.100.10]"])
    metrics: int | None = Field(default=None, ge=1, le=65_535, examples=["9797"])
    keep_names: Annotated[Nanoseconds, BeforeValidator(_retention)] | None = Field(
        default=None, alias="keep-names", examples=["7 days"]
    )


class PlanEntry(Entry):
    """The whole plan file. What it cannot do without is asked for in `check`, so that the rest is read all the same."""

    site: str = Field(default="", examples=["Saltmarsh Veterinary"])
    timezone: Annotated[str, BeforeValidator(_timezone)] = Field(default="UTC", examples=["Europe/Dublin"])
    uplinks: dict[Name, UplinkEntry] = Field(
        default={}, examples=["{fibre: {interface: wan0, down: 180 Mbit/s, up: 24 Mbit/s}}"]
    )
    networks: dict[Name, NetworkEntry] = {}
    groups: dict[Name, Annotated[GroupEntry, _list_is("members")]] = {}
    schedules: dict[Name, Annotated[ScheduleEntry, _list_is("windows")]] = {}
    trees: dict[Name, TreeEntry] = Field(default={}, examples=["{main: {queues: {rest: {default: true}}}}"])
    limiters: dict[Name, LimiterEntry] = {}
    services: dict[Name, ServiceEntry] = {}
    gate: GateEntry = GateEntry()
    catalogues: Words = Field(default=(), examples=["[own-services.yaml]"])
    rules: list[RuleEntry | None] = []

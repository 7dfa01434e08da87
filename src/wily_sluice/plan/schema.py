"""The plan file as the person writes it: every key, what it may hold, and an example for each.

This is where outside data comes in; nothing deeper checks types again. References between the parts (a rule's queue,
a limiter's group) are not followed here but in `read`.
"""

import re
from typing import Annotated, Any, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from wily_sluice.engine.framing import ETHERNET, NAMED, Framing
from wily_sluice.engine.spec import FIRST_PRIORITY, LAST_PRIORITY, USUAL_PRIORITY, Aqm, Discipline, FairBy, LeafSpec
from wily_sluice.plan.addresses import parse_prefix
from wily_sluice.plan.document import suggestion
from wily_sluice.plan.model import Directional, FramingWords
from wily_sluice.plan.traffic_words import parse_dscp, parse_ports, parse_protocol
from wily_sluice.units import (
    Amount,
    Nanoseconds,
    Rate,
    Size,
    parse_amount,
    parse_rate,
    parse_share,
    parse_size,
    parse_time,
)

_NAME = re.compile(r"[^\W\d][\w.-]*")


def _name(text: object) -> str:
    if not isinstance(text, str) or not _NAME.fullmatch(text):
        raise ValueError(f"“{text}” cannot be a name: begin with a letter, then letters, digits, - _ and .")
    return text


def _interface(text: object) -> str:
    # The kernel allows 15 characters, none of them a slash or a space.
    if not isinstance(text, str) or not re.fullmatch(r"[^\s/%]{1,15}", text) or text in (".", ".."):
        raise ValueError(f"“{text}” is no interface name: at most 15 characters, such as wan0")
    return text


def _timezone(text: object) -> str:
    try:
        ZoneInfo(str(text))
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueError(f"“{text}” is no time zone: write it like Europe/Dublin") from None
    return str(text)


def _directional_amount(value: object) -> Directional[Amount]:
    if isinstance(value, Directional):
        return value
    if not isinstance(value, dict):
        amount = parse_amount(value)
        return Directional(amount, amount)
    if strange := [key for key in value if key not in ("up", "down")]:
        raise ValueError(f"“{strange[0]}” is no direction: there are up (toward the internet) and down")
    if not value:
        raise ValueError("neither up nor down is given")
    return Directional(*(parse_amount(value[key]) if key in value else None for key in ("up", "down")))


def _listed(value: Any) -> Any:
    """A single value where a list may stand is a list of one."""
    return value if isinstance(value, list) else [value]


def _words(value: object) -> tuple[str, ...]:
    words = _listed(value)
    if not words or not all(isinstance(word, str) and word.strip() for word in words):
        raise ValueError("write names of groups or networks, addresses, ranges or subnets")
    return tuple(word.strip() for word in words)


def _flat(parse: Any) -> BeforeValidator:
    """Parse each of a value or a list of values, and join what comes back."""

    def parse_all(value: object) -> tuple[Any, ...]:
        values = _listed(value)
        if not values:
            raise ValueError("the list is empty: leave the key out to mean any")
        return tuple(part for item in values for part in parse(item))

    return BeforeValidator(parse_all)


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


Name = Annotated[str, BeforeValidator(_name)]
Interface = Annotated[str, BeforeValidator(_interface)]
RateText = Annotated[Rate, BeforeValidator(parse_rate)]
ShareText = Annotated[float, BeforeValidator(parse_share)]
Amounts = Annotated[Any, BeforeValidator(_directional_amount)]
Words = Annotated[tuple[str, ...], BeforeValidator(_words)]
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
    raise ValueError(f"“{value}” is no limit: write it like 200 packets, 64 kB or 50 ms")


def _limit_in_bytes(size: Size) -> LeafSpec:
    return LeafSpec(most_bytes=size)


def _limit_in_time(longest: Nanoseconds) -> LeafSpec:
    return LeafSpec(longest=longest)


def _framing(value: object) -> FramingWords:
    if isinstance(value, FramingWords):
        return value
    if isinstance(value, str):
        if value not in NAMED:
            raise ValueError(f"there is no framing “{value}”: {suggestion(value, list(NAMED))}")
        return FramingWords(NAMED[value], value)
    if not isinstance(value, dict) or not value or set(value) - {"overhead", "minimum", "cells"}:
        raise ValueError("a framing is a name such as pppoe-ptm, or {overhead: 34 B, minimum: 64 B, cells: ptm}")
    sizes = {key: parse_size(value[key]) for key in ("overhead", "minimum") if key in value}
    cells = value.get("cells")
    if cells not in (None, "atm", "ptm"):
        raise ValueError(f"cells are atm or ptm, not “{cells}”")
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
        default=FramingWords(ETHERNET, "ethernet"), examples=["pppoe-ptm"]
    )
    tree: Annotated[Any, BeforeValidator(_tree_names)] = Field(default=Directional(None, None), examples=["main"])


class NetworkEntry(Entry):
    """Hosts behind one interface of the gateway."""

    interface: Interface = Field(examples=["lan0"])
    subnets: Annotated[list[Subnet], Field(min_length=1)] = Field(examples=["[10.61.0.0/24]"])


class QueueEntry(Entry):
    """A queue; a parent where it has `queues`."""

    guarantee: Amounts = Field(default=Directional(None, None), examples=["12%"])
    cap: Amounts = Field(default=Directional(None, None), examples=["80%"])
    priority: Annotated[int, Field(ge=FIRST_PRIORITY, le=LAST_PRIORITY, strict=True)] = Field(
        default=USUAL_PRIORITY, examples=["5, from 1 (first) to 9 (last)"]
    )
    weight: Annotated[float, Field(gt=0, le=10_000)] = Field(default=1.0, examples=["2"])
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


class LimiterEntry(Entry):
    """A cap for whoever it names."""

    local: Words = Field(examples=["waiting-room"])
    per: Literal["host", "together"] = "together"
    down: RateText | None = Field(default=None, examples=["6 Mbit/s"])
    up: RateText | None = Field(default=None, examples=["1 Mbit/s"])


class RuleEntry(Entry):
    """Which conversations go to which queue."""

    name: str | None = Field(default=None, examples=["Handsets"])
    local: Words | None = Field(default=None, examples=["handsets"])
    remote: Words | None = Field(default=None, examples=["203.0.113.0/24"])
    protocol: Annotated[tuple[int, ...], _flat(parse_protocol)] | None = Field(default=None, examples=["udp"])
    port: Annotated[tuple[tuple[int, int], ...], _flat(parse_ports)] | None = Field(
        default=None, examples=["5060-5080"]
    )
    dscp: Annotated[tuple[int, ...], _flat(parse_dscp)] | None = Field(default=None, examples=["EF"])
    queue: Annotated[dict[str, str], BeforeValidator(_queue_words)] = Field(examples=["calls"])


class PlanEntry(Entry):
    """The whole plan file. What it cannot do without is asked for in `check`, so that the rest is read all the same."""

    site: str = Field(default="", examples=["Saltmarsh Veterinary"])
    timezone: Annotated[str, BeforeValidator(_timezone)] = Field(default="UTC", examples=["Europe/Dublin"])
    uplinks: dict[Name, UplinkEntry] = Field(
        default={}, examples=["{fibre: {interface: wan0, down: 180 Mbit/s, up: 24 Mbit/s}}"]
    )
    networks: dict[Name, NetworkEntry] = {}
    groups: dict[Name, Words] = {}
    trees: dict[Name, TreeEntry] = Field(default={}, examples=["{main: {queues: {rest: {default: true}}}}"])
    limiters: dict[Name, LimiterEntry] = {}
    rules: list[RuleEntry | None] = []

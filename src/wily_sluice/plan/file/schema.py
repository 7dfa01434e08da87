"""The plan file as the user writes it: every key, its type, and an example.

This is where outside data comes in; no other code checks types again. References between the parts (a rule's queue, a
limiter's group) are resolved in `read`.
"""

from collections.abc import Iterator
from datetime import date
from typing import TYPE_CHECKING, Annotated, Any, Final, Literal

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, create_model

from wily_sluice.engine.limit.limiter import Excess, Per
from wily_sluice.engine.packet import ETHERNET, LARGEST_PACKET
from wily_sluice.engine.queueing.spec import (
    FIRST_PRIORITY,
    LAST_PRIORITY,
    USUAL_PRIORITY,
    Aqm,
    Discipline,
    FairBy,
)
from wily_sluice.plan.fields.registry import FIELDS
from wily_sluice.plan.file.framings import Wrapper, parse_wrapper
from wily_sluice.plan.file.traffic_words import (
    parse_host_name,
    parse_protocol,
    parse_service_port,
)
from wily_sluice.plan.file.values import (
    parse_advertised,
    parse_as_number,
    parse_budget,
    parse_burst,
    parse_cap,
    parse_collector,
    parse_country,
    parse_delay,
    parse_directional_amount,
    parse_directional_rate,
    parse_engage,
    parse_excess,
    parse_framing,
    parse_hardware_words,
    parse_headroom,
    parse_host_addresses,
    parse_hosts_by,
    parse_interface,
    parse_lifetime,
    parse_limit,
    parse_mark,
    parse_mark_bits,
    parse_notify,
    parse_per,
    parse_queue_words,
    parse_quota,
    parse_rate_span,
    parse_remotes,
    parse_retention,
    parse_seen,
    parse_timezone,
    parse_tree_names,
)
from wily_sluice.plan.file.words import Name, PortWords, Words, flat, listed, parse_prefix
from wily_sluice.plan.mark_field import LAST_PREFERENCE, RULES, USUAL_MARKS
from wily_sluice.plan.model import USUAL_HEADROOM, USUAL_ROUND_TRIP, Directional, FramingWords, HostsBy, Quota, RateSpan
from wily_sluice.units import (
    SECOND,
    Nanoseconds,
    Rate,
    parse_rate,
    parse_share,
)

Interface = Annotated[str, BeforeValidator(parse_interface)]
RateText = Annotated[Rate, BeforeValidator(parse_rate)]
RateSpanText = Annotated[RateSpan, BeforeValidator(parse_rate_span)]
Amounts = Annotated[Any, BeforeValidator(parse_directional_amount)]
Subnet = Annotated[str, BeforeValidator(lambda value: str(parse_prefix(value)))]


def _list_is(key: str) -> BeforeValidator:
    """A list, or a single word, may replace a set of keys that has only this key."""

    def mapping(value: object) -> object:
        return value if isinstance(value, (dict, BaseModel)) else {key: value}

    return BeforeValidator(mapping)


class Entry(BaseModel):
    """A mapping of the file: no key but the known ones."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)


class ProbeEntry(Entry):
    """How it is found out whether an uplink carries anything. A list alone is a list of remotes."""

    remotes: Annotated[Words, AfterValidator(parse_remotes)] = Field(examples=["[198.51.100.10, 203.0.113.1]"])
    within: Annotated[Nanoseconds, BeforeValidator(parse_delay)] = Field(default=SECOND, examples=["500 ms"])
    lost: Annotated[int, Field(ge=1, le=60, strict=True)] = Field(default=3, examples=["3"])


class UplinkEntry(Entry):
    """An uplink, with its measured rates."""

    interface: Interface = Field(examples=["wan0"])
    down: RateSpanText = Field(examples=["180 Mbit/s"])
    up: RateSpanText = Field(examples=["5 to 24 Mbit/s"])
    advertised: Annotated[Directional[Rate], BeforeValidator(parse_advertised)] = Field(
        default=Directional(None, None), examples=["{down: 200 Mbit/s, up: 25 Mbit/s}"]
    )
    headroom: Annotated[Directional[float], BeforeValidator(parse_headroom)] = Field(
        default=Directional(USUAL_HEADROOM, USUAL_HEADROOM), examples=["8%"]
    )
    framing: Annotated[FramingWords, BeforeValidator(parse_framing)] = Field(
        default=FramingWords(ETHERNET, "ethernet"), examples=["pppoe over ptm"]
    )
    tree: Annotated[Any, BeforeValidator(parse_tree_names)] = Field(default=Directional(None, None), examples=["main"])
    probe: Annotated[ProbeEntry, _list_is("remotes")] | None = Field(default=None, examples=["[198.51.100.10]"])
    next_hop: Annotated[Words, AfterValidator(parse_remotes)] = Field(
        default=(), alias="next-hop", examples=["[192.0.2.1, '2001:db8::1']"]
    )
    refuses: Annotated[tuple[str, ...], BeforeValidator(listed)] = Field(default=(), examples=["[backups]"])
    honours_marks: bool = Field(default=False, alias="honours-marks", examples=["true"])


class NetworkEntry(Entry):
    """Hosts behind one interface of the gateway."""

    interface: Interface = Field(examples=["lan0"])
    subnets: Annotated[list[Subnet], Field(min_length=1)] = Field(examples=["[10.61.0.0/24]"])
    hosts: Annotated[HostsBy, BeforeValidator(parse_hosts_by)] = Field(default="device", examples=["by address"])


class TunnelEntry(Entry):
    """A tunnel that ends on the gateway, and the uplink that carries it."""

    interface: Interface = Field(examples=["office0"])
    uplink: str | None = Field(default=None, examples=["fibre"])
    wrapping: Annotated[Wrapper, BeforeValidator(parse_wrapper)] = Field(examples=["wireguard"])
    remote: Annotated[Words, AfterValidator(parse_remotes)] = Field(default=(), examples=["203.0.113.20"])
    port: Annotated[int, Field(ge=1, le=65_535, strict=True)] | None = Field(default=None, examples=["51820"])
    next_hop: Annotated[Words, AfterValidator(parse_remotes)] = Field(
        default=(), alias="next-hop", examples=["[192.0.2.1, '2001:db8::1']"]
    )
    mtu: Annotated[int, Field(ge=576, le=LARGEST_PACKET, strict=True)] | None = Field(default=None, examples=["1420"])


class QueueEntry(Entry):
    """A queue; a parent where it has `queues`."""

    guarantee: Amounts = Field(default=Directional(None, None), examples=["12%"])
    cap: Annotated[Any, BeforeValidator(parse_cap)] = Field(default=Directional(None, None), examples=["80%"])
    priority: Annotated[int, Field(ge=FIRST_PRIORITY, le=LAST_PRIORITY, strict=True)] = Field(
        default=USUAL_PRIORITY, examples=["5, from 1 (first) to 9 (last)"]
    )
    weight: Annotated[float, Field(ge=0.001, le=10_000)] = Field(default=1.0, examples=["2"])
    default: bool = False
    discipline: Discipline | None = Field(default=None, examples=["weighted"])
    queues: dict[Name, "QueueEntry"] | None = None
    delay: Annotated[Nanoseconds, BeforeValidator(parse_delay)] | None = Field(default=None, examples=["10 ms"])
    aqm: Aqm | None = Field(default=None, examples=["fq-codel"])
    fair_by: FairBy | None = Field(default=None, alias="fair-by", examples=["host"])
    ecn: bool | None = Field(default=None, examples=["false"])
    limit: Annotated[Any, BeforeValidator(parse_limit)] = Field(default=None, examples=["200 packets"])


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
    country: Annotated[tuple[str, ...], flat(parse_country)] = Field(default=(), examples=["[XA, XB]"])
    as_number: Annotated[tuple[str, ...], flat(parse_as_number)] = Field(
        default=(), alias="as-number", examples=["64503"]
    )
    where: dict[str, Words] = Field(default={}, examples=["{country.name: [Lower Marsh]}"])

    @property
    def asks_database(self) -> bool:
        """Whether a group selects entries of a database."""
        return bool(self.country or self.as_number or self.where)


class HostEntry(Entry):
    """A host of yours. A list alone, or a word, is its addresses."""

    addresses: Annotated[Words, AfterValidator(parse_host_addresses)] = Field(default=(), examples=["[10.61.0.21]"])
    hardware: Annotated[Words, AfterValidator(parse_hardware_words)] = Field(
        default=(), examples=["'02:00:5e:10:00:21'"]
    )


class ScheduleEntry(Entry):
    """When something holds. A list alone is a list of windows."""

    windows: Annotated[tuple[Any, ...], BeforeValidator(lambda value: tuple(listed(value)))] = Field(
        default=(), examples=["[mon-fri 08:00-18:30, sat 09:00-13:00]"]
    )
    calendar: Words = Field(default=(), examples=["[holidays.ics]"])


class LimiterEntry(Entry):
    """A cap on matching traffic."""

    local: Words | None = Field(default=None, examples=["waiting-room"])
    remote: Words | None = Field(default=None, examples=["203.0.113.0/24"])
    network: Words | None = Field(default=None, examples=["waiting-room"])
    uplink: str | None = Field(default=None, examples=["fibre"])
    service: Words | None = Field(default=None, examples=["swarms"])
    protocol: Annotated[tuple[int, ...], flat(parse_protocol)] | None = Field(default=None, examples=["udp"])
    port: PortWords | None = Field(default=None, examples=["443"])
    per: Annotated[Per, BeforeValidator(parse_per)] = Field(default=Per(), examples=["host"])
    down: RateText | None = Field(default=None, examples=["6 Mbit/s"])
    up: RateText | None = Field(default=None, examples=["1 Mbit/s"])
    burst: Annotated[Any, BeforeValidator(parse_burst)] = Field(default=None, examples=["100 ms"])
    round_trip: Annotated[Nanoseconds, BeforeValidator(parse_delay)] = Field(
        default=USUAL_ROUND_TRIP, alias="round-trip", examples=["40 ms"]
    )
    excess: Annotated[tuple[Excess, int], BeforeValidator(parse_excess)] = Field(default=("wait", 0), examples=["drop"])
    excess_burst: Annotated[Any, BeforeValidator(parse_burst)] = Field(
        default=None, alias="excess-burst", examples=["30 kB"]
    )
    peak: Annotated[Any, BeforeValidator(parse_directional_rate)] = Field(default=None, examples=["12 Mbit/s"])
    engage: Annotated[float, BeforeValidator(parse_engage)] | None = Field(default=None, examples=["above 80%"])
    when: str | None = Field(default=None, examples=["opening-hours"])
    quota: Annotated[Quota, BeforeValidator(parse_quota)] | None = Field(default=None, examples=["40 GB per month"])
    quota_from: Annotated[float, BeforeValidator(parse_share)] = Field(default=1.0, alias="from", examples=["80%"])
    starts: int | str | None = Field(default=None, examples=["15"])
    enabled: bool = True
    note: str = ""


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
    """Conditions on a conversation: any fields of `fields.registry`, and blocks."""

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
        """The value of a field; None if absent."""
        return getattr(self, key.replace("-", "_"))

    def walk(self) -> "Iterator[TermsEntry]":
        """These, and all within them."""
        yield self
        for part in (*self.any_, *self.all_, *self.not_):
            if part is not None:
                yield from part.walk()


class RuleEntry(TermsEntry):
    """Puts matching conversations into a queue."""

    name: str | None = Field(default=None, examples=["Handsets"])
    queue: Annotated[dict[str, str], BeforeValidator(parse_queue_words)] | None = Field(
        default=None, examples=["calls"]
    )
    mark: Annotated[int | None, BeforeValidator(parse_mark)] = Field(default=None, examples=["EF"])
    enabled: bool = True
    note: str = ""


class RouteEntry(TermsEntry):
    """Which uplink conversations take."""

    name: str | None = Field(default=None, examples=["Backups"])
    uplink: str | None = Field(default=None, examples=["fibre"])
    uplinks: dict[Name, Annotated[float, Field(ge=0.001, le=10_000)]] | None = Field(
        default=None, min_length=1, examples=["{fibre: 3, mobile: 1}"]
    )
    else_: str | None = Field(default=None, alias="else", examples=["mobile"])
    while_: Annotated[tuple[float, str], BeforeValidator(parse_budget)] | None = Field(
        default=None, alias="while", examples=["under 80% of quota"]
    )
    enabled: bool = True
    note: str = ""


class MappingEntry(Entry):
    """Who may have which ports opened, by PCP or NAT-PMP."""

    name: str | None = Field(default=None, examples=["Consoles"])
    local: Words = Field(examples=["play-room"])
    protocol: Annotated[tuple[int, ...], flat(parse_protocol)] | None = Field(default=None, examples=["udp"])
    port: PortWords = Field(examples=["3000-3099"])
    count: Annotated[int, Field(ge=1, le=1000, strict=True)] = Field(default=8, examples=["4"])
    lifetime: Annotated[Nanoseconds, BeforeValidator(parse_lifetime)] = Field(
        default=2 * 3600 * SECOND, examples=["2 h"]
    )
    uplink: str | None = Field(default=None, examples=["fibre"])
    service: str | None = Field(default=None, examples=["league"])
    enabled: bool = True
    note: str = ""


class NatEntry(Entry):
    """Requirements on address translation."""

    keep_ports: Words = Field(default=(), alias="keep-ports", examples=["[play-room]"])


class ServiceEntry(Entry):
    """The signs of a service."""

    about: str = ""
    category: Name | None = Field(default=None, examples=["play"])
    seen: Annotated[tuple[str, ...], flat(parse_seen)] = Field(default=(), examples=["[rtp, stun]"])
    over: Annotated[tuple[str, ...], flat(parse_seen)] = Field(default=(), examples=["[tls]"])
    ports: Annotated[tuple[tuple[int, tuple[int, int]], ...], flat(parse_service_port)] = Field(
        default=(), examples=["[41100-41120/udp, 443]"]
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
    services: dict[Name, ServiceEntry] = Field(examples=["{league: {ports: [41100-41120/udp]}}"])


class NamesEntry(Entry):
    """Where the gate finds names of hosts that the plan does not name."""

    leases: Words = Field(default=(), examples=["[/var/lib/leases/leases]"])
    reverse: bool = False


class GateEntry(Entry):
    """Settings of the gate itself."""

    watchers: str | None = Field(default=None, examples=["everyone"])
    probe: Annotated[Words, AfterValidator(parse_remotes)] = Field(default=(), examples=["[198.51.100.10]"])
    metrics: int | None = Field(default=None, ge=1, le=65_535, examples=["9797"])
    keep_contacts: Annotated[Nanoseconds, BeforeValidator(parse_retention)] | None = Field(
        default=None, alias="keep-contacts", examples=["7 days"]
    )
    notify: Annotated[str, AfterValidator(parse_notify)] | None = Field(
        default=None, examples=["https://notices.example/sluice"]
    )
    names: NamesEntry = NamesEntry()
    ipfix: Annotated[tuple[str, int], BeforeValidator(parse_collector)] | None = Field(
        default=None, examples=["192.0.2.9"]
    )
    firewall_mark_bits: Annotated[tuple[int, int], BeforeValidator(parse_mark_bits)] = Field(
        default=(USUAL_MARKS.lowest, USUAL_MARKS.highest), alias="firewall-mark-bits", examples=["8-14"]
    )
    routing_preference: int = Field(
        default=USUAL_MARKS.preference, ge=1, le=LAST_PREFERENCE - RULES, alias="routing-preference", examples=["21300"]
    )


class PlanEntry(Entry):
    """The whole plan file. Required parts are checked in `check`, so that the rest is read even without them."""

    site: str = Field(default="", examples=["Saltmarsh Veterinary"])
    timezone: Annotated[str, BeforeValidator(parse_timezone)] = Field(default="UTC", examples=["Europe/Dublin"])
    uplinks: dict[Name, UplinkEntry] = Field(
        default={}, examples=["{fibre: {interface: wan0, down: 180 Mbit/s, up: 24 Mbit/s}}"]
    )
    tunnels: dict[Name, TunnelEntry] = {}
    networks: dict[Name, NetworkEntry] = {}
    hosts: dict[Name, Annotated[HostEntry, _list_is("addresses")]] = {}
    groups: dict[Name, Annotated[GroupEntry, _list_is("members")]] = {}
    schedules: dict[Name, Annotated[ScheduleEntry, _list_is("windows")]] = {}
    trees: dict[Name, TreeEntry] = Field(default={}, examples=["{main: {queues: {rest: {default: true}}}}"])
    limiters: dict[Name, LimiterEntry] = {}
    services: dict[Name, ServiceEntry] = {}
    gate: GateEntry = GateEntry()
    catalogues: Words = Field(default=(), examples=["[own-services.yaml]"])
    rules: list[RuleEntry | None] = []
    routes: list[RouteEntry | None] = []
    mappings: list[MappingEntry | None] = []
    nat: NatEntry = NatEntry()


ENTRIES: Final[dict[str, type[BaseModel]]] = {
    "uplink": UplinkEntry, "network": NetworkEntry, "host": HostEntry, "group": GroupEntry, "schedule": ScheduleEntry,
    "queue": QueueEntry, "limiter": LimiterEntry, "rule": RuleEntry, "service": ServiceEntry, "tunnel": TunnelEntry,
    "route": RouteEntry, "mapping": MappingEntry, "gate": GateEntry, "nat": NatEntry,
}  # fmt: skip


def keys_of(kind: str) -> list[str]:
    """The keys of a part of the file, such as `uplink`."""
    if kind == "site":
        return ["name", "timezone"]
    return [field.alias or key for key, field in ENTRIES[kind].model_fields.items() if key not in ("name", "queues")]

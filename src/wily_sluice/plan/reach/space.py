"""The reach of a rule or a route, as a region in the space of all conversations and packets.

The dimensions: addresses of both sides, with IPv6 after IPv4 on one line, the local ones limited to the plan's
networks; the protocol; both ports; the DSCP; the kinds of a packet; the volume; the uplink; and combinations of open
schedules. A name, a service, a rate or a hardware address is a separate dimension with the values 0 and 1. The only
known relation is that names below a pattern are also below a wider one.

A conversation may have carried several DSCPs, and a rule matches any one. But each may be its only one, so a rule is
unreachable exactly if it is for every single DSCP.
"""

from collections.abc import Iterable, Iterator
from datetime import datetime, time

from wily_sluice.engine.classify.addresses import AddressSet, covers
from wily_sluice.engine.classify.header import ACKNOWLEDGEMENT, CLOSING, CONTROL, HANDSHAKE
from wily_sluice.plan.fields.registry import FIELDS, asked
from wily_sluice.plan.model import Plan, Route, Rule
from wily_sluice.plan.reach.regions import (
    DSCP,
    IPV6_BEGINS,
    KIND,
    KINDS,
    LOCAL,
    LOCAL_PORT,
    MOVED,
    NO_END,
    PROTOCOL,
    REMOTE,
    REMOTE_PORT,
    TIME,
    UPLINK,
    Box,
    Dimension,
    Ranges,
    TooInvolvedError,
    both,
    left,
    meet,
    meet_all,
    ranges,
)
from wily_sluice.plan.schedules.schedule import Schedule, boundaries, telling_days
from wily_sluice.plan.terms import Party, Terms

MOST_BOXES = 2000
MOST_DAYS = 4000  # over which schedules are looked at
PORTED = ((17, 17), (33, 33), (132, 132), (136, 136))
YES: Ranges = ((1, 1),)


def _addresses(addresses: AddressSet) -> Ranges:
    def number(packed: bytes) -> int:
        return int.from_bytes(packed) + (IPV6_BEGINS if len(packed) == 16 else 0)

    return ranges((number(first), number(last)) for first, last in addresses)


class Space:
    """Everything that some rules or routes of one plan can ask of."""

    def __init__(self, plan: Plan, asking: Iterable[Rule | Route]) -> None:
        self._plan = plan
        self.uplinks = tuple(uplink.name for uplink in plan.uplinks)
        everything = [terms for asked in asking for terms in asked.terms.walk()]
        used = sorted({terms.when for terms in everything if terms.when is not None and terms.when in plan.schedules})
        self._exact = [plan.schedules[name] for name in used if not plan.schedules[name].calendars]
        self._moments: list[tuple[bool, ...]] = [()]
        try:
            self._moments = sorted(moments(self._exact))
        except TooInvolvedError:
            self._exact = []  # each may hold or not, whatever the others do
        names = [name for terms in everything if terms.remote is not None for name in terms.remote.members.names]
        self._patterns = sorted(set(names))
        end = IPV6_BEGINS + (1 << 128) - 1
        own = _addresses(plan.hosts) if plan.hosts else ((0, end),)
        self.whole: dict[Dimension, Ranges] = {
            LOCAL: own,
            REMOTE: ((0, end),),
            PROTOCOL: ((0, 255),),
            LOCAL_PORT: ((0, 65535),),
            REMOTE_PORT: ((0, 65535),),
            DSCP: ((0, 63),),
            KIND: ((0, KINDS - 1),),
            MOVED: ((0, NO_END),),
            UPLINK: ((0, max(0, len(self.uplinks) - 1)),),
            TIME: ((0, len(self._moments) - 1),),
        }
        for pattern in self._patterns:
            self.whole["name", pattern] = ((0, 1),)
        for field in FIELDS:
            self.whole |= field.whole(plan)
        self._possible = list(self._all_possible(end))

    def _all_possible(self, end: int) -> Iterator[Box]:
        """What there can be: both addresses of one version; ports, and kinds of packets, by protocol."""
        more = HANDSHAKE | CLOSING
        tcp = [k for k in range(KINDS) if not k & CONTROL and not (k & ACKNOWLEDGEMENT and k & more)]
        by_protocol: list[tuple[Ranges, bool, Iterable[int]]] = [
            (((6, 6),), True, tcp),
            (PORTED, True, (0,)),
            (((1, 1), (58, 58)), False, (CONTROL,)),
            (((0, 0), (2, 5), (7, 16), (18, 32), (34, 57), (59, 131), (133, 135), (137, 255)), False, (0,)),
        ]
        for addresses in (((0, IPV6_BEGINS - 1),), ((IPV6_BEGINS, end),)):
            for protocols, ported, kinds in by_protocol:
                here = both(addresses, self.whole[LOCAL])
                if not here:
                    continue
                box: dict[Dimension, Ranges] = {LOCAL: here, REMOTE: addresses, PROTOCOL: protocols}
                box[KIND] = ranges((k, k) for k in kinds)
                if not ported:
                    box[LOCAL_PORT] = box[REMOTE_PORT] = ((0, 0),)
                yield box

    def reach(self, terms: Terms) -> list[Box]:
        """Everything possible that matches some terms. TooInvolvedError if that takes too many boxes."""
        return self.possible(self.region(terms))

    def possible(self, region: list[Box]) -> list[Box]:
        """The possible part of a region. TooInvolvedError as above."""
        return [box for box in map(self._sensible, meet_all(self._possible, region, MOST_BOXES)) if box]

    def left(self, region: list[Box], taken: list[Box]) -> list[Box]:
        """The possible rest of a region after others are taken away."""
        return [box for box in map(self._sensible, left(region, taken, self.whole, MOST_BOXES)) if box]

    def _sensible(self, box: Box) -> Box | None:
        """Add the consequences between names; None for impossible boxes."""
        words = dict(box)
        for (what, name), values in box.items():
            if what == "name" and values == YES:
                for wider in self._patterns:
                    if covers(wider, name):
                        common = meet(words, {("name", wider): YES})
                        if common is None:
                            return None
                        words = dict(common)
        return words

    def flag(self, what: str, which: str) -> Box:
        """A yes-or-no property about which nothing else is known."""
        self.whole[what, which] = ((0, 1),)
        return {(what, which): YES}

    def party(self, party: Party, dimension: Dimension) -> list[Box]:
        """Where a party is, by any of its signs."""
        parts: list[Box] = [{dimension: _addresses(party.addresses)}] if party.addresses else []
        parts += [self.flag("hardware", address.hex()) for address in sorted(party.members.hardware)]
        return parts + [self.flag("name", name) for name in sorted(party.members.names)]

    def region(self, terms: Terms) -> list[Box]:
        """Everything that matches some terms, possible or not. TooInvolvedError as above."""
        region: list[Box] = [{}]

        def ask(*parts: Box) -> None:
            nonlocal region
            region = meet_all(region, parts, MOST_BOXES)

        for field, value in asked(terms):
            ask(*field.boxes(value, self))
        for part in terms.all:
            ask(*self.region(part))
        if terms.any:
            ask(*(box for part in terms.any for box in self.region(part)))
        for part in terms.none:
            region = left(region, self.region(part), self.whole, MOST_BOXES)
        return [box for box in region if all(box.values())]

    def when(self, schedule: str) -> Box:
        """While a schedule holds."""
        names = [name.name for name in self._exact]
        if schedule not in names:
            return self.flag("when", schedule)
        index = names.index(schedule)
        return {TIME: ranges((n, n) for n, moment in enumerate(self._moments) if moment[index])}


def moments(schedules: list[Schedule]) -> set[tuple[bool, ...]]:
    """The combinations of schedules that can be open together, for those without a calendar.

    TooInvolvedError if they name very many dates.
    """
    days = telling_days(schedules)
    if len(days) > MOST_DAYS:
        raise TooInvolvedError
    minutes = boundaries(schedules)
    return {
        tuple(schedule.holds(moment) for schedule in schedules)
        for day in days
        for minute in minutes
        for moment in (datetime.combine(day, time(minute // 60, minute % 60)),)
    }

"""Follows the packets of a capture through a plan with the gate's engine, and adds up their queues.

The plan's networks decide who is local. Packets between two local hosts, or between two remotes, never reach the gate's
shapers and are counted apart, as are frames without IP. Bytes are those of IP packets; all counts add up to the bytes
of the capture.
"""

from collections import Counter
from dataclasses import dataclass, field
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from wily_sluice.engine.classify.header import ICMP, ICMPV6, TCP, Parsed, Parties, kind_of, parse, parties, quoted
from wily_sluice.engine.classify.service import NOTHING
from wily_sluice.engine.conversations.conversation import Conversation, Fragments
from wily_sluice.engine.queueing.flow_path import FlowPath
from wily_sluice.plan.build import build_site
from wily_sluice.plan.model import Plan, Uplink
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.sorting.capture import Captured
from wily_sluice.sorting.explain import Services, Way, way_of
from wily_sluice.units import DIRECTIONS, SECOND, Direction, Nanoseconds, Size

DEFAULT = "(default)"
NEVER_OPENED = "(never opened)"
SYN, RST = 2, 4  # in a TCP header


@dataclass(slots=True)
class Count:
    """Packets and bytes, by direction."""

    packets: int = 0
    up: Size = 0
    down: Size = 0

    def add(self, up: bool, length: Size) -> None:
        """Count a packet."""
        self.packets += 1
        if up:
            self.up += length
        else:
            self.down += length

    @property
    def bytes(self) -> Size:
        """Both directions together."""
        return self.up + self.down


@dataclass(frozen=True, slots=True)
class Decision:
    """From this packet of the capture on (counted from 1), a direction uses this flow_path.

    `kinds` are bits, and `up_to` a length: if rules distinguish packets by these, only such packets use it.
    """

    packet: int
    direction: Direction
    way: Way
    kinds: int = 0
    up_to: Size | None = None

    @property
    def apart(self) -> bool:
        """Whether it is about some of the packets alone."""
        return bool(self.kinds) or self.up_to is not None


@dataclass(slots=True)
class Followed:
    """A conversation, with all decisions about it and its final state."""

    parties: Parties
    first: int
    count: Count = field(default_factory=Count)
    decisions: list[Decision] = field(default_factory=list)
    seen: str = ""
    likely: str = ""
    names: tuple[str, ...] = ()
    evidence: tuple[str, ...] = ()
    shape: str = ""
    service: str = ""
    category: str = ""
    sign: str = ""
    opened: bool = False

    def way(self, direction: Direction) -> Way | None:
        """The final flow path of a direction; None without packets."""
        return next((d.way for d in reversed(self.decisions) if d.direction == direction and not d.apart), None)


@dataclass(slots=True)
class CaptureSorting:
    """All conversations of a capture, and its totals by rule, queue, service and host."""

    conversations: list[Followed] = field(default_factory=list)
    rules: dict[str, Count] = field(default_factory=dict)
    queues: dict[str, Count] = field(default_factory=dict)
    services: dict[str, Count] = field(default_factory=dict)
    hosts: dict[bytes, Count] = field(default_factory=dict)
    whole: Count = field(default_factory=Count)
    apart: "Counter[str]" = field(default_factory=Counter)  # bytes: why not shaped
    packets_apart: "Counter[str]" = field(default_factory=Counter)

    @property
    def bytes(self) -> Size:
        """All of the capture."""
        return self.whole.bytes + sum(self.apart.values())


class Follower:
    """One run through a plan, on one of its uplinks."""

    def __init__(self, plan: Plan, uplink: Uplink) -> None:
        self.plan = plan
        self.engine = build_site(plan, lambda _: None, behaviour=True)
        self.sorting = CaptureSorting()
        self._recognition = Recognition()
        self._uplink = uplink.name
        self._shapers = {way: self.engine.shapers[uplink.name, way] for way in DIRECTIONS}
        self._services = Services(plan)
        self._hosts = plan.hosts
        self._zone = ZoneInfo(plan.timezone)
        self._decided: dict[tuple[Conversation, bool, int], tuple[int, tuple[object, ...]]] = {}
        self._followed: dict[Conversation, Followed] = {}
        self._minute = -1
        self._fragments = (Fragments(), Fragments())  # down, up

    def _apart(self, why: str, length: Size) -> None:
        self.sorting.apart[why] += length
        self.sorting.packets_apart[why] += 1

    def packet(self, number: int, captured: Captured) -> None:
        """Follow the next packet of the capture; they count from 1."""
        packet, now = captured.packet, captured.now
        parsed = parse(packet, True) if packet else None
        if parsed is None:
            self._apart("not IP", captured.frame)
            return
        own = parties(parsed.key)
        sent, taken = own.local in self._hosts, own.remote in self._hosts
        if sent == taken:
            self._apart("between your own hosts" if sent else "of none of your hosts", parsed.length)
            return
        if taken:
            parsed = parse(packet, False)
            assert parsed is not None
        if now // (60 * SECOND) != self._minute:
            self._minute = now // (60 * SECOND)
            self.engine.at(datetime.fromtimestamp(now / SECOND, UTC).astimezone(self._zone))
        if sent and captured.hardware and self.engine.neighbours.watched:
            self.engine.learn(own.local, captured.hardware, now)
        key = self._fragments[sent].key(parsed, now) if parsed.datagram else parsed.key
        conversations = self.engine.conversations
        about = conversations.peek(quoted(packet, sent)) if key[0] in (ICMP, ICMPV6) else None
        self._count(number, about or conversations.find(key, parsed.dscp, now), parsed, packet, sent, now)

    def _count(
        self, number: int, conversation: Conversation, parsed: Parsed, packet: bytes, up: bool, now: Nanoseconds
    ) -> None:
        if conversation.unknown and self._recognition.look(conversation, parsed, packet, up, now):
            conversation.sort_again()
        kind = kind_of(parsed.key[0], parsed.flags, parsed.length, parsed.headers)
        direction: Direction = "up" if up else "down"
        shaper = self._shapers[direction]
        flow_path = shaper.flow_path(conversation, kind, parsed.length, now)
        followed = self._followed.get(conversation)
        if followed is None:
            followed = self._followed[conversation] = Followed(conversation.parties, number)
            self.sorting.conversations.append(followed)
        apart = shaper.classifier.apart(kind, parsed.length)
        question = (conversation, up, apart)
        if self._decided.get(question) != (flow_path.rule, flow_path.buckets):
            self._decided[question] = (flow_path.rule, flow_path.buckets)
            subject = shaper.classifier.subject(conversation, kind, parsed.length)
            way = way_of(self.plan, self._uplink, shaper.classifier, flow_path, subject)
            followed.decisions.append(Decision(number, direction, way, *shaper.classifier.sort_of(apart)))
        for total, key in (
            (self.sorting.rules, self._rule(flow_path) or DEFAULT),
            (self.sorting.queues, flow_path.leaf.path),
        ):
            total.setdefault(key, Count()).add(up, parsed.length)
        self.sorting.hosts.setdefault(followed.parties.local, Count()).add(up, parsed.length)
        self.sorting.whole.add(up, parsed.length)
        followed.count.add(up, parsed.length)
        # What has neither SYN nor RST (RFC 9293 §3.1) comes of a connection that both have opened.
        followed.opened = followed.opened or parsed.key[0] != TCP or not parsed.flags & (SYN | RST)

    def _rule(self, flow_path: FlowPath) -> str | None:
        return self.plan.sorting[flow_path.rule].name if flow_path.rule >= 0 else None

    def finish(self) -> CaptureSorting:
        """Record the final state of each conversation, and its service."""
        for conversation, followed in self._followed.items():
            subject = self._shapers["up"].classifier.subject(conversation)
            known = conversation.known or NOTHING
            followed.seen, followed.likely = known.seen, known.likely
            followed.names, followed.evidence = known.names, known.evidence
            followed.shape = subject.shape
            followed.service, followed.category, followed.sign = self._services.of(subject)
            if not followed.opened and not followed.sign.startswith("speaks"):
                followed.service, followed.category, followed.sign = NEVER_OPENED, NEVER_OPENED, ""
            total = self.sorting.services.setdefault(followed.service, Count())
            total.packets += followed.count.packets
            total.up += followed.count.up
            total.down += followed.count.down
        return self.sorting

"""Turns packets diverted by the kernel into the engine's packets."""

import time
from typing import Final

from wily_sluice.engine.classify.header import (
    ICMP,
    ICMPV6,
    TCP,
    UDP,
    UNREADABLE,
    Parsed,
    is_ipv6,
    kind_of,
    parse,
    quoted,
)
from wily_sluice.engine.classify.neighbours import ANOTHER, CHANGED, GATEWAY, Home
from wily_sluice.engine.conversations.conversation import Conversation, Fragments
from wily_sluice.engine.conversations.round_trips import RoundTrips, Spin
from wily_sluice.engine.packet import Framing, Packet
from wily_sluice.engine.site import SiteEngine
from wily_sluice.engine.tally import ETHERNET_HEADER
from wily_sluice.gate.kernel.packet_queue import QueuedPacket
from wily_sluice.gate.look import Visits
from wily_sluice.gate.loop import Entrance
from wily_sluice.gate.overload import Budget, NewFlows
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.units import Direction, Nanoseconds, Size

TCP_HEADERS: Final = (52, 72)  # bytes with timestamps, over IPv4 and over IPv6
OTHER_HEADERS: Final = (28, 48)  # of UDP
LONGEST_ERROR: Final = (576, 1280)  # bytes of an ICMP error, over IPv4 and over IPv6


class Admission(Entrance):
    """For one direction of an uplink with this framing. `ecn_writable` says that the ECN field can be written, except
    on packets to this machine; `visits` records the names that hosts contact, if these are kept; `budget` bounds the
    time that recognition takes; `homes` are the networks, by the index of their interface.

    `strangers` has, for each network with a packet from an address outside it, one such address since last emptied.

    `arrived` counts bytes of IP on the line, `packets` all packets, `unreadable` those that are not valid IP.
    """

    def __init__(
        self,
        engine: SiteEngine,
        recognition: Recognition | None,
        framing: Framing,
        direction: Direction,
        ecn_writable: bool,
        visits: Visits | None = None,
        budget: Budget | None = None,
        homes: dict[int, Home] | None = None,
    ) -> None:
        self._engine = engine
        self._recognition = recognition
        self._framing = framing
        self._largest = framing.largest
        self._costs = [framing.cost(length) for length in range(self._largest + 1)]
        wrapping = framing.wrapping
        self._outside = [wrapping.outside(n) for n in range(self._largest + 1)] if wrapping is not None else None
        self.up = direction == "up"
        self._ecn_writable = ecn_writable
        self._conversations = engine.conversations
        self._kinds = bool(engine.kinds)
        self._visits = visits
        self._budget = budget or Budget()
        self._neighbours = engine.neighbours
        self._fragments = Fragments()
        self._homes: dict[int, Home] = homes if homes is not None else {}
        self._trips = RoundTrips()
        self.strangers: dict[str, bytes] = {}
        self.unreadable = 0
        self.arrived: Size = 0
        self.packets = 0

    def admit(self, diverted: QueuedPacket, now: Nanoseconds) -> Packet:
        """A packet with the diverted one as its token."""
        header = diverted.header
        self.packets += 1
        parsed = parse(header, self.up)
        if parsed is None:
            self.unreadable += 1
            length = diverted.length or len(header)
            self.arrived += length
            return Packet(
                self._framing.cost(length), self._conversations.find(UNREADABLE, 0, now), diverted, length=length
            )
        key = parsed.key
        spoofed = False
        if self.up and diverted.hardware:
            local = key[1:17] if is_ipv6(key) else key[1:5]
            learnt = self._neighbours.learn(local, diverted.hardware, now)
            if learnt == CHANGED:
                self._engine.neighbours_changed(now)
            spoofed = learnt == ANOTHER
        length = outside = diverted.length or parsed.length
        if length <= self._largest:
            size = self._costs[length]
            if self._outside is not None:
                outside = self._outside[length]
        else:
            headers = (TCP_HEADERS if key[0] == TCP else OTHER_HEADERS)[is_ipv6(key)]
            size = self._framing.cost_when_cut(length, headers)
            outside = self._framing.length_when_cut(length, headers, ETHERNET_HEADER)
        self.arrived += outside
        home = self._homes.get(diverted.inside)
        if parsed.datagram:
            key = self._fragments.key(parsed, now)
        whole = not parsed.datagram or key is parsed.key  # a fragment that is not the first begins with no header
        if spoofed:
            key = self._as_sent_by(diverted, key)
        about = None
        if key[0] == ICMP or key[0] == ICMPV6:
            about = self._quoted(header, key, length, now)
        conversation = about if about is not None else self._conversations.find(key, parsed.dscp, now, home)
        if home is not None and conversation.up_path is None and conversation.down_path is None:
            self._see_home(conversation, home)
        if key[0] == TCP:
            self._trips.saw(conversation, diverted, header, self.up, now)
        elif conversation.spin is not None and whole:
            self._trips.spun(conversation, diverted, header, self.up, now)
        elif key[0] == UDP:
            self._trips.exchanged(conversation, diverted, self.up, now)
        if conversation.unknown and self._recognition is not None and whole and self._budget.allows(now):
            self._look(conversation, parsed, header, now)
        packet = Packet(
            size,
            conversation,
            diverted,
            parsed.ecn if self._ecn_writable and (self.up or diverted.inside) else 0,
            max(0, length - parsed.headers),
            outside,
            kind_of(key[0], parsed.flags, length, parsed.headers) if self._kinds else 0,
        )
        if outside > length:
            packet.wrapped = outside - length
        return packet

    def _as_sent_by(self, diverted: QueuedPacket, key: bytes) -> bytes:
        """The key of a packet whose sender writes the address of another device, as if it had written its own."""
        width = 16 if is_ipv6(key) else 4
        own = self._neighbours.own(diverted.hardware, width)
        if not own:
            home = self._homes.get(diverted.inside)
            own = home.stranger(width) if home is not None else b""
        return key[:1] + (own if len(own) == width else bytes(width)) + key[1 + width :]

    def _quoted(self, header: bytes, key: bytes, length: Size, now: Nanoseconds) -> Conversation | None:
        """The conversation that an ICMP error is about and rides with: one of the same local party, while such errors
        are few, and no longer than they are (RFC 1812 §4.3.2.3, RFC 4443 §2.4 (c)).
        """
        if length > LONGEST_ERROR[is_ipv6(key)]:
            return None
        about = quoted(header, self.up)
        end = 17 if is_ipv6(key) else 5
        conversation = self._conversations.peek(about) if about and about[1:end] == key[1:end] else None
        return conversation if conversation is not None and conversation.admits_error(now) else None

    def opens(self, diverted: QueuedPacket, new_flows: NewFlows) -> bytes:
        """The key of a conversation that this packet opens or that has packets waiting; empty for others."""
        parsed = parse(diverted.header, self.up)
        if parsed is None or parsed.datagram:
            return b""
        key = parsed.key
        return b"" if self._conversations.peek(key) is not None and key not in new_flows else key

    def _see_home(self, conversation: Conversation, home: Home) -> None:
        """Sort a new conversation as one of its interface's network, whatever its address."""
        local = conversation.parties.local
        if local not in home.addresses:
            conversation.home = home.stranger(len(local))
            if home is not GATEWAY:
                self.strangers[home.name] = local

    def _look(self, conversation: Conversation, parsed: Parsed, header: bytes, now: Nanoseconds) -> None:
        """Show a packet to recognition, and charge the time to the budget."""
        recognition = self._recognition
        assert recognition is not None
        begun = time.monotonic_ns()
        if recognition.look(conversation, parsed, header, self.up, now):
            conversation.sort_again()
            known = conversation.known
            if known is not None and known.seen == "quic":
                conversation.spin = Spin()
            if self._visits is not None:
                self._visits.note(conversation, known)
        self._budget.spend(time.monotonic_ns() - begun)

"""Shows a conversation's first packets to all recognisers until one is certain, or all have given up.

Knowledge about other conversations: names of addresses, from DNS answers, and addresses of media, from SIP.

Both are bounded, and the oldest entries are forgotten first. A name is valid for the answer's time to live.

Each recogniser is a function of an `Opening`: it returns a verdict, asks for the next packet, or gives up. Time and
memory are bounded: a conversation is watched for a number of packets and a time (`opening`), and at most MOST_OPEN at
once; the oldest is dropped first.

DNS and SIP conversations stay watched, because they inform about others; each datagram costs one pass.
"""

from collections.abc import Callable, Mapping
from typing import Final

from wily_sluice.engine.classify.header import TCP, UDP, Parsed
from wily_sluice.engine.classify.service import NOTHING, Known
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.recognition.opening import LONGEST, Answer, Opening, Verdict
from wily_sluice.recognition.protocols import bittorrent, datagrams, dns, first_lines, quic, rtp, sip, stun, tls
from wily_sluice.units import SECOND, Nanoseconds

MOST_ADDRESSES = 20_000
MOST_NAMES = 4  # of one address
MOST_MEDIA = 4_000
MEDIA_LIFE: Nanoseconds = 120 * SECOND


class LearntNames:
    """Names that hosts have asked for."""

    def __init__(self) -> None:
        self._found: dict[bytes, dict[str, tuple[Nanoseconds, bytes]]] = {}

    def __len__(self) -> int:
        return len(self._found)

    def learn(self, address: bytes, name: str, until: Nanoseconds, host: bytes) -> None:
        """Remember that a host received this address for a name, and until when it is valid."""
        names = self._found.pop(address, {})
        names.pop(name, None)
        names[name] = (until, host)
        if len(names) > MOST_NAMES:
            del names[next(iter(names))]
        self._found[address] = names
        if len(self._found) > MOST_ADDRESSES:
            del self._found[next(iter(self._found))]

    def names(self, address: bytes, host: bytes, now: Nanoseconds) -> tuple[str, ...]:
        """The names of an address that still hold: those that this host asked for, or where there are none, any."""
        names = self._found.get(address)
        if names is None:
            return ()
        current = [(name, asker) for name, (until, asker) in reversed(names.items()) if until >= now]
        own = tuple(name for name, asker in current if asker == host)
        return own or tuple(name for name, _ in current)


class ExpectedMedia:
    """Addresses and ports of announced media."""

    def __init__(self) -> None:
        self._found: dict[tuple[bytes, int], tuple[Nanoseconds, str]] = {}

    def __len__(self) -> int:
        return len(self._found)

    def expect(self, address: bytes, port: int, kind: str, now: Nanoseconds) -> None:
        """Take note of where media was announced."""
        self._found.pop((address, port), None)
        self._found[address, port] = (now + MEDIA_LIFE, kind)
        if len(self._found) > MOST_MEDIA:
            del self._found[next(iter(self._found))]

    def kind(self, address: bytes, port: int, now: Nanoseconds) -> str:
        """The kind of media announced there; empty for none."""
        until, kind = self._found.get((address, port), (0, ""))
        return kind if until >= now else ""


Recogniser = Callable[[Opening], Answer]
RECOGNISERS: Final[Mapping[int, tuple[Recogniser, ...]]] = {
    TCP: (
        tls.look,
        first_lines.look_http,
        sip.look,
        first_lines.look_greeting,
        bittorrent.look_tcp,
        dns.look_tcp,
        stun.look_tcp,
    ),
    UDP: (
        quic.look,
        stun.look,
        tls.look_dtls,
        dns.look_udp,
        sip.look,
        rtp.look,
        bittorrent.look_dht,
        bittorrent.look_utp,
        datagrams.look_wireguard,
        datagrams.look_ssp,
        datagrams.look_ntp,
        datagrams.look_ike,
    ),
}
TELLING = ("dns", "sip", "rtsp")  # what tells about other conversations
MOST_OPEN = 2048
MOST_EVIDENCE = 4


class Recognition:
    """Of all conversations of a site."""

    def __init__(self) -> None:
        self.names = LearntNames()
        self.media = ExpectedMedia()
        self.opened: Mapping[tuple[bytes, int, int], str] = {}  # services, by hosts' ports that were opened for them
        self._open: dict[bytes, tuple[Conversation, Opening]] = {}

    def look(self, conversation: Conversation, parsed: Parsed, packet: bytes, up: bool, now: Nanoseconds) -> bool:
        """Examine a packet of a conversation that is `unknown`. True if the result has changed."""
        protocol = conversation.key[0]
        if protocol not in RECOGNISERS:
            conversation.unknown = False
            return False
        known = conversation.known
        if known is not None and known.seen in TELLING:
            self._hear(conversation, packet[parsed.headers :], up, now)
            return False
        changed = False
        watched = self._open.get(conversation.key)
        if watched is not None and watched[0] is conversation:
            opening = watched[1]
        else:
            opening = self._begin(conversation, now)
            changed = conversation.known is not None
        opening.add(parsed, packet, up, now)
        changed = self._ask(conversation, opening) or changed
        if conversation.unknown and (opening.over or now - opening.begun > LONGEST):
            self._end(conversation)
        known = conversation.known
        if known is not None and known.seen in TELLING:
            conversation.unknown = True
            self._hear(conversation, packet[parsed.headers :], up, now)
        return changed

    def _begin(self, conversation: Conversation, now: Nanoseconds) -> Opening:
        opening = Opening(conversation.key, now)
        opening.hopes = RECOGNISERS[conversation.key[0]]
        if len(self._open) >= MOST_OPEN:
            self._end(self._open[next(iter(self._open))][0])
        self._open[conversation.key] = (conversation, opening)
        parties = opening.parties
        names = self.names.names(parties.remote, parties.local, now)
        opened = self.opened.get((parties.local, parties.protocol, parties.local_port), "")
        if names or opened:
            called = f"an answer of DNS gives its address to {names[0]}" if names else ""
            asked = f"port {parties.local_port} of the host was opened for {opened}" if opened else ""
            evidence = tuple(why for why in (called, asked) if why)
            conversation.known = Known(names=names, evidence=evidence, opened=opened)
        if parties.protocol == UDP:
            kind = self.media.kind(parties.remote, parties.remote_port, now) or self.media.kind(
                parties.local, parties.local_port, now
            )
            if kind:
                self._note(conversation, Verdict("rtp", f"{kind} was announced on this port", final=False))
        return opening

    def _ask(self, conversation: Conversation, opening: Opening) -> bool:
        """Ask the recognisers that are still undecided. True if one has recognised something."""
        changed = False
        hopes = []
        for recogniser in opening.hopes:
            answer = recogniser(opening)
            if isinstance(answer, Verdict):
                changed = self._note(conversation, answer) or changed
                if answer.certain and answer.final:
                    self._end(conversation)
                    return changed
            elif answer is not None:
                hopes.append(recogniser)
        opening.hopes = tuple(hopes)
        if not hopes:
            self._end(conversation)
            if opening.opened and any(opening.streams) and not (known := conversation.known or NOTHING).seen:
                evidence = (*known.evidence, "its first bytes match no known protocol")[:MOST_EVIDENCE]
                conversation.known = Known("", known.names, evidence, known.likely, True, known.opened)
                changed = True
        return changed

    def _end(self, conversation: Conversation) -> None:
        conversation.unknown = False
        self._open.pop(conversation.key, None)

    def _note(self, conversation: Conversation, verdict: Verdict) -> bool:
        """Write a verdict down. True when it says anything new that is certain."""
        before = conversation.known or Known()
        evidence = (*before.evidence, verdict.evidence)[:MOST_EVIDENCE]
        if not verdict.certain:
            if before.seen or before.likely:
                return False
            conversation.known = Known(before.seen, before.names, evidence, verdict.seen, opened=before.opened)
            return False
        # What the client itself says is worth more than what the address may be called.
        names = (verdict.name,) if verdict.name else before.names
        if before.seen == verdict.seen and names == before.names:
            return False
        conversation.known = Known(verdict.seen, names, evidence, opened=before.opened)
        return True

    def _hear(self, conversation: Conversation, payload: bytes, up: bool, now: Nanoseconds) -> None:
        """Learn about other conversations from a message."""
        assert conversation.known is not None
        if conversation.known.seen == "sip":
            for address, port, kind in sip.media(payload):
                self.media.expect(address, port, kind, now)
            return
        if conversation.known.seen == "rtsp":
            own, far = conversation.parties.local, conversation.parties.remote
            for of_sender, port in sip.rtsp_media(payload):
                self.media.expect(own if of_sender == up else far, port, "media", now)
            return
        if conversation.key[0] == TCP:
            payload = payload[2:]
        self.hear_dns(payload, conversation.parties.local if not up else conversation.parties.remote, now)

    def hear_dns(self, message: bytes, host: bytes, now: Nanoseconds) -> None:
        """Learn from a DNS answer to a host."""
        message_read = dns.parse(message)
        if message_read is not None and message_read.answers and message_read.name:
            for address, life in message_read.addresses:
                self.names.learn(address, message_read.name, now + life, host)

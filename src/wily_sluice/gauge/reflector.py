"""Answers test packets of holders of the key, at a limited rate, never with more bytes than it received.

A packet is answered once. Who captured some and sends them again, from wherever, gets nothing: the last REMEMBERED are
known by their signatures, whatever the clocks of the two machines show.
"""

import socket
import struct
import time
from collections import OrderedDict
from collections.abc import Callable
from ipaddress import IPv4Address, IPv6Network, ip_address
from typing import TypeVar

from wily_sluice.gauge.stamp import LENGTH, LONGEST, SIGNED, MalformedError, reflected_packet
from wily_sluice.units import SECOND, Nanoseconds

MOST_SESSIONS = 256  # senders that are numbered; the one that was silent longest is forgotten
SESSION_ENDS: Nanoseconds = 60 * SECOND  # of silence, after which a sender's packets are numbered anew
PACKETS_A_SECOND = 2_000  # of one site, from whatever ports
BURST = PACKETS_A_SECOND // 10
ALL_PACKETS_A_SECOND = 10_000  # of all
REMEMBERED = 100_000  # at least
SO_TIMESTAMPNS = 35  # linux/asm-generic/socket.h
IP_RECVTTL, IPV6_RECVHOPLIMIT, IPV6_HOPLIMIT = 12, 51, 52
IP_PKTINFO, IPV6_RECVPKTINFO, IPV6_PKTINFO = 8, 49, 50
_PACKET_INFO = struct.Struct("=I4s4s")  # of IPv4: interface, the address it came to, and that of its header
Said = list[tuple[int, int, bytes]]  # what the kernel tells beside a packet
_TIMESPEC = struct.Struct("@ll")


K = TypeVar("K")
V = TypeVar("V")


class Allowance:
    """How many packets may be answered now: so many a second, and a tenth of them at once."""

    __slots__ = ("allowed", "rate", "seen")

    def __init__(self, now: Nanoseconds, rate: int) -> None:
        self.rate = rate
        self.allowed = rate / 10
        self.seen = now

    def admit(self, now: Nanoseconds) -> bool:
        """Whether a packet may be answered."""
        passed = max(0, now - self.seen)
        self.seen = now
        self.allowed = min(self.rate / 10, self.allowed + passed * self.rate / SECOND)
        if self.allowed < 1:
            return False
        self.allowed -= 1
        return True


class Remembered:
    """Signatures of the last packets: of at least `most`, and of no more than twice as many."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._now: set[bytes] = set()
        self._before: set[bytes] = set()

    def is_new(self, signature: bytes) -> bool:
        """Whether it is the first with this signature; from now on it is known."""
        if signature in self._now or signature in self._before:
            return False
        if len(self._now) >= self._most:
            self._now, self._before = set(), self._now
        self._now.add(signature)
        return True


class Session:
    """A sender: how many of its packets came, and when the last one did."""

    __slots__ = ("number", "seen")

    def __init__(self, now: Nanoseconds) -> None:
        self.number = 0
        self.seen = now


class Reflector:
    """Decides on answers. No socket."""

    def __init__(self, key: bytes) -> None:
        self._key = key
        self._sessions: OrderedDict[tuple[str, int], Session] = OrderedDict()
        self._by_site: OrderedDict[str, Allowance] = OrderedDict()
        self._all: Allowance | None = None
        self._remembered = Remembered(REMEMBERED)
        self.answered = self.refused = self.repeated = self.held_back = 0

    def answer(
        self, data: bytes, sender: tuple[str, int], received: Nanoseconds, now: Callable[[], Nanoseconds], ttl: int
    ) -> bytes | None:
        """The answer; None if the packet is not signed, was answered before, or comes too early."""
        session = self._sessions.get(sender)
        if session is None or received - session.seen > SESSION_ENDS:
            session = Session(received)
        try:
            answer = reflected_packet(data, self._key, session.number, received, now(), ttl)
        except MalformedError:
            self.refused += 1
            return None
        if not self._remembered.is_new(data[SIGNED:LENGTH]):
            self.repeated += 1
            return None
        _keep(self._sessions, sender, session)
        session.number += 1
        session.seen = received
        if not self._may(sender[0], received):
            self.held_back += 1
            return None
        self.answered += 1
        return answer

    def _may(self, address: str, now: Nanoseconds) -> bool:
        """Whether the rates of an address and of all allow an answer."""
        if self._all is None:
            self._all = Allowance(now, ALL_PACKETS_A_SECOND)
        site = network_of(address)
        own = self._by_site.get(site) or Allowance(now, PACKETS_A_SECOND)
        _keep(self._by_site, site, own)
        return own.admit(now) and self._all.admit(now)


def network_of(address: str) -> str:
    """What one site has: an address of IPv4, or a network of 64 bits of IPv6."""
    there = ip_address(address.partition("%")[0])
    if isinstance(there, IPv4Address):
        return str(there)
    return str(there.ipv4_mapped or IPv6Network((there, 64), strict=False))


def _keep(known: OrderedDict[K, V], key: K, value: V) -> None:
    """As the latest; the one that was silent longest may be forgotten."""
    known[key] = value
    known.move_to_end(key)
    if len(known) > MOST_SESSIONS:
        known.popitem(last=False)


def prepared(family: socket.AddressFamily) -> socket.socket:
    """A socket for test packets that says when each came and how far it may still go."""
    end = socket.socket(family, socket.SOCK_DGRAM)
    end.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    if family == socket.AF_INET6:
        end.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
        end.setsockopt(socket.IPPROTO_IPV6, IPV6_RECVHOPLIMIT, 1)
        end.setsockopt(socket.IPPROTO_IPV6, IPV6_RECVPKTINFO, 1)
    else:
        end.setsockopt(socket.IPPROTO_IP, IP_PKTINFO, 1)
    end.setsockopt(socket.IPPROTO_IP, IP_RECVTTL, 1)
    return end


def receive(end: socket.socket) -> tuple[bytes, tuple[str, int], Nanoseconds, int, Said]:
    """A packet, who sent it, when the kernel took it in (ns since 1970), its TTL or hop limit, and what to send with an
    answer so that it comes from the address that was asked.
    """
    data, ancillary, _, sender = end.recvmsg(LONGEST, 256)
    at, ttl, back = time.time_ns(), 255, Said()
    for level, kind, value in ancillary:
        if level == socket.SOL_SOCKET and kind == SO_TIMESTAMPNS:
            seconds, rest = _TIMESPEC.unpack(value[: _TIMESPEC.size])
            at = seconds * SECOND + rest
        elif (level, kind) in ((socket.IPPROTO_IP, socket.IP_TTL), (socket.IPPROTO_IPV6, IPV6_HOPLIMIT)):
            ttl = int.from_bytes(value[:4], "little") & 255
        elif (level, kind) == (socket.IPPROTO_IPV6, IPV6_PKTINFO):
            back.append((level, kind, value[:16] + bytes(4)))
        elif (level, kind) == (socket.IPPROTO_IP, IP_PKTINFO):
            back.append((level, kind, _PACKET_INFO.pack(0, _PACKET_INFO.unpack(value[:12])[1], bytes(4))))
    return data, (str(sender[0]), int(sender[1])), at, ttl, back


def serve(end: socket.socket, reflector: Reflector) -> None:
    """Answer until the socket is closed or the program is interrupted."""
    while True:
        try:
            data, sender, at, ttl, back = receive(end)
        except ConnectionError:
            continue  # an answer that nobody wanted
        answer = reflector.answer(data, sender, at, time.time_ns, ttl)
        if answer is not None:
            try:
                end.sendmsg([answer], back, 0, sender)
            except OSError:
                continue

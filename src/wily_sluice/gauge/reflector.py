"""Answers test packets of holders of the key, at a limited rate, never with more bytes than it received."""

import socket
import struct
import time
from collections import OrderedDict
from collections.abc import Callable

from wily_sluice.gauge.stamp import LONGEST, MalformedError, reflected_packet
from wily_sluice.units import SECOND, Nanoseconds

MOST_SESSIONS = 256  # senders that are numbered; the one that was silent longest is forgotten
SESSION_ENDS: Nanoseconds = 60 * SECOND  # of silence, after which a sender's packets are numbered anew
PACKETS_A_SECOND = 2_000  # of one sender
BURST = 200
SO_TIMESTAMPNS = 35  # linux/asm-generic/socket.h
IP_RECVTTL, IPV6_RECVHOPLIMIT, IPV6_HOPLIMIT = 12, 51, 52
IP_PKTINFO, IPV6_RECVPKTINFO, IPV6_PKTINFO = 8, 49, 50
_PACKET_INFO = struct.Struct("=I4s4s")  # of IPv4: interface, the address it came to, and that of its header
Said = list[tuple[int, int, bytes]]  # what the kernel tells beside a packet
_TIMESPEC = struct.Struct("@ll")


class Session:
    """A sender: how many of its packets came, and how many more may be answered now."""

    __slots__ = ("allowed", "number", "seen")

    def __init__(self, now: Nanoseconds) -> None:
        self.number = 0
        self.allowed = float(BURST)
        self.seen = now

    def admit(self, now: Nanoseconds) -> bool:
        """Whether a packet may be answered."""
        passed = max(0, now - self.seen)
        self.seen = now
        self.allowed = min(BURST, self.allowed + passed * PACKETS_A_SECOND / SECOND)
        if self.allowed < 1:
            return False
        self.allowed -= 1
        return True


class Reflector:
    """Decides on answers. No socket."""

    def __init__(self, key: bytes) -> None:
        self._key = key
        self._sessions: OrderedDict[tuple[str, int], Session] = OrderedDict()
        self.answered = self.refused = self.held_back = 0

    def answer(
        self, data: bytes, sender: tuple[str, int], received: Nanoseconds, now: Callable[[], Nanoseconds], ttl: int
    ) -> bytes | None:
        """The answer; None if the packet is not signed, or too early."""
        session = self._sessions.get(sender)
        if session is None or received - session.seen > SESSION_ENDS:
            session = Session(received)
        try:
            answer = reflected_packet(data, self._key, session.number, received, now(), ttl)
        except MalformedError:
            self.refused += 1
            return None
        self._sessions[sender] = session
        self._sessions.move_to_end(sender)
        if len(self._sessions) > MOST_SESSIONS:
            self._sessions.popitem(last=False)
        session.number += 1
        if not session.admit(received):
            self.held_back += 1
            return None
        self.answered += 1
        return answer


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

"""Sockets for the requests of an interface's hosts, which tell which device sent each (packet(7)).

A socket for datagrams only says the source address, which anybody on a network can write. Beside it, a socket for
packets sees the same datagrams with the hardware addresses that they came from; what both have seen is attributed.
"""

import socket
import struct
import time
from collections import OrderedDict
from contextlib import suppress
from dataclasses import dataclass
from ipaddress import ip_address
from typing import Any, Final

from wily_sluice.gate.kernel.echo import attach_filter
from wily_sluice.units import SECOND, Nanoseconds, Size

ETHERNET: Final = 1  # linux/if_arp.h
MOST: Final = 1024  # datagrams that are remembered
KEPT: Final[Nanoseconds] = 2 * SECOND
A_BATCH: Final = 64
IP_PKTINFO: Final = 8  # linux/in.h
ETH_P: Final = {socket.AF_INET: 0x0800, socket.AF_INET6: 0x86DD}
Key = tuple[bytes, int, bytes]  # the source address and port, and the data


def _filter(family: socket.AddressFamily, port: int) -> list[tuple[int, int, int, int]]:
    """Only datagrams to a port, as the kernel's packet filter reads it: loads of a byte (0x30), a half (0x28), a half
    behind the header (0x48), whose length is put into X (0xb1); jumps if equal (0x15), if a bit is set (0x45); returns.
    """
    if family == socket.AF_INET6:
        return [(0x30, 0, 0, 6), (0x15, 0, 3, 17), (0x28, 0, 0, 42), (0x15, 0, 1, port), (6, 0, 0, 4096), (6, 0, 0, 0)]
    fragment = [(0x28, 0, 0, 6), (0x45, 4, 0, 0x1FFF)]
    to_port = [(0xB1, 0, 0, 0), (0x48, 0, 0, 2), (0x15, 0, 1, port), (6, 0, 0, 4096), (6, 0, 0, 0)]
    return [(0x30, 0, 0, 9), (0x15, 0, 6, 17), *fragment, *to_port]


class Senders:
    """Of the datagrams to a port on one interface, over one version of IP. OSError if the kernel refuses."""

    def __init__(self, interface: str, family: socket.AddressFamily, port: int) -> None:
        self._family = family
        self._seen: OrderedDict[Key, tuple[Nanoseconds, set[bytes]]] = OrderedDict()
        self._end = socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, 0)
        try:
            attach_filter(self._end, _filter(family, port))
            self._end.bind((interface, ETH_P[family]))
            self._end.setblocking(False)
        except OSError:
            self._end.close()
            raise

    def close(self) -> None:
        """Hear no more."""
        self._end.close()

    def of(self, source: str, port: int, data: bytes) -> set[bytes] | None:
        """The hardware addresses that a datagram came from: several if it came from several, one that is empty where
        the interface has none, and None if it was not seen.
        """
        with suppress(OSError):  # nothing more, or the interface is gone
            for _ in range(A_BATCH):
                self._take(*self._end.recvfrom(4096))
        if (seen := self._seen.get((ip_address(source.partition("%")[0]).packed, port, data))) is None:
            return None
        return seen[1] if time.monotonic_ns() - seen[0] < KEPT else None

    def _take(self, packet: bytes, about: tuple[str, int, int, int, bytes]) -> None:
        _, _, kind, link, hardware = about
        header = (packet[0] & 15) * 4 if self._family == socket.AF_INET else 40
        if kind == socket.PACKET_OUTGOING or len(packet) < header + 8:
            return
        source = packet[12:16] if self._family == socket.AF_INET else packet[8:24]
        port, length = int.from_bytes(packet[header : header + 2]), int.from_bytes(packet[header + 4 : header + 6])
        key = source, port, packet[header + 8 : header + length]
        now = time.monotonic_ns()
        at, those = self._seen.get(key, (now, set[bytes]()))
        if now - at >= KEPT:
            those = set()
        self._seen[key] = now, those | {hardware if link == ETHERNET else b""}
        self._seen.move_to_end(key)
        if len(self._seen) > MOST:
            self._seen.popitem(last=False)


@dataclass(frozen=True, slots=True)
class Request:
    """A datagram, its source as the kernel writes it, the address that it came to, and the devices it came from."""

    data: bytes
    source: Any
    ours: list[tuple[int, int, bytes]]
    devices: set[bytes]

    @property
    def host(self) -> bytes:
        """The source address."""
        return ip_address(self.source[0].partition("%")[0]).packed


class RequestSocket:
    """For the hosts of one interface, over one version of IP. OSError if it cannot be opened."""

    def __init__(self, interface: str, family: socket.AddressFamily, port: int, longest: Size) -> None:
        self.interface, self.family = interface, family
        self.index = socket.if_nametoindex(interface)  # one that was recreated has another
        self._longest = longest
        self._senders = Senders(interface, family, port)
        self.end = socket.socket(family, socket.SOCK_DGRAM)
        try:
            self.end.setblocking(False)
            self.end.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            self.end.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
            if family == socket.AF_INET:
                self.end.setsockopt(socket.IPPROTO_IP, IP_PKTINFO, 1)
                self.end.bind(("", port))
            else:
                self.end.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
                self.end.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_RECVPKTINFO, 1)
                self.end.bind(("::", port))
        except OSError:
            self.close()
            raise

    def close(self) -> None:
        """Hear no more."""
        self.end.close()
        self._senders.close()

    def receive(self) -> Request:
        """The next request. BlockingIOError if there is none, another OSError if the interface is gone."""
        data, ours, _, source = self.end.recvmsg(self._longest, 256)
        return Request(data, source, ours, self._senders.of(source[0], source[1], data) or set())

    def reply(self, request: Request, data: bytes) -> None:
        """Answer from the address that was asked; the kernel might choose another of the interface's."""
        own = []
        for level, kind, info in request.ours:
            if level == socket.IPPROTO_IP and kind == IP_PKTINFO:
                index, address, _ = struct.unpack("=I4s4s", info)
                own = [(level, kind, struct.pack("=I4s4s", index, address, bytes(4)))]
            elif level == socket.IPPROTO_IPV6 and kind == socket.IPV6_PKTINFO:
                own = [(level, kind, info)]
        with suppress(OSError):
            self.end.sendmsg([data], own, 0, request.source)

"""After an uplink has failed: hosts and programs of this machine open their conversations again.

Closes connections of this machine's own programs over a failed uplink, so that they open new ones.

A program that only receives, as in a download, would wait for long: its address belongs to the failed uplink, and no
packet arrives there. The kernel closes its connection on request (sock_diag(7), SOCK_DESTROY, which not every kernel
has), and the program sees an abort.

Makes local hosts send a packet in conversations that the kernel has just forgotten, so that these end at once.

A host that only receives, as in a download, does not notice a failed uplink. A segment outside its window makes it
answer with its present position (RFC 9293 §3.10.7.4). That answer leaves over another uplink, from another address. The
far end does not know it and rejects it, so the host's connection ends and can be reopened.

The segment is sent to the host's link directly, because the kernel would treat it as a new connection.
"""

import socket
import struct
import time
from collections.abc import Iterable, Set
from contextlib import suppress
from ipaddress import ip_address
from typing import Final, NamedTuple

from wily_sluice.engine.classify.header import TCP, Parties
from wily_sluice.gate.kernel.echo import checksum

NO_COOKIE: Final = (1 << 64) - 1  # whichever connection it is that has these parties


def close(conversations: Iterable[Parties]) -> None:
    """Close those of TCP whose local party is a connection of this machine; others are left as they are."""
    from pyroute2 import DiagSocket, IPRoute  # which takes its time, and few plans need it
    from pyroute2.netlink import NLM_F_REQUEST
    from pyroute2.netlink.diag import SOCK_DESTROY, inet_diag_req

    with IPRoute() as kernel:
        own = {ip_address(address.get_attr("IFA_ADDRESS")).packed for address in kernel.get_addr()}
    asked = [who for who in conversations if who.protocol == TCP and who.local in own]
    if not asked:
        return
    with DiagSocket() as sockets:
        sockets.bind()
        for who in asked:
            request = inet_diag_req()
            request["sdiag_family"] = socket.AF_INET if len(who.local) == 4 else socket.AF_INET6
            request["sdiag_protocol"] = socket.IPPROTO_TCP
            request["idiag_sport"], request["idiag_dport"] = who.local_port, who.remote_port
            request["idiag_src"], request["idiag_dst"] = _words(who.local), _words(who.remote)
            request["idiag_cookie"] = NO_COOKIE
            with suppress(OSError):  # it is over already, or this kernel does not do it
                sockets.put(request, SOCK_DESTROY, NLM_F_REQUEST)


def _words(address: bytes) -> tuple[int, ...]:
    return struct.unpack("!4I", address.ljust(16, b"\0"))


ETH_P: Final = {4: 0x0800, 16: 0x86DD}
ACK: Final = 0x10
MOST: Final = 20_000  # conversations
AT_ONCE, BREATH = 50, 0.001  # conversations, seconds: between them the loop gets the interpreter
TIMES, PAUSE = 3, 0.6  # seconds; a host answers no more than twice a second (tcp_invalid_ratelimit)
_TCP: Final = struct.Struct("!HHIIBBHHH")


class Neighbour(NamedTuple):
    """Where a host is on a link."""

    interface: str
    hardware: bytes


def segment(who: Parties, sequence: int) -> bytes:
    """An IP packet with an empty segment from the remote to the local party, at this place of the remote's stream."""
    header = _TCP.pack(who.remote_port, who.local_port, sequence, 0, 5 << 4, ACK, 0, 0, 0)
    pseudo = who.remote + who.local
    if len(who.local) == 4:
        pseudo += struct.pack("!HH", TCP, len(header))
        head = struct.pack("!BBHHHBBH4s4s", 0x45, 0, 20 + len(header), 0, 0, 64, TCP, 0, who.remote, who.local)
        head = head[:10] + struct.pack("!H", checksum(head)) + head[12:]
    else:
        pseudo += struct.pack("!II", len(header), TCP)
        head = struct.pack("!IHBB16s16s", 6 << 28, len(header), TCP, 64, who.remote, who.local)
    return head + header[:16] + struct.pack("!H", checksum(pseudo + header)) + header[18:]


def nudge(conversations: Iterable[Parties], outside: Set[str]) -> None:
    """Send some to the local party of each that is of TCP, where this machine knows its way and its link's address;
    never by an interface that is `outside`. Takes a second or two. OSError without root.
    """
    places: dict[bytes, Neighbour | None] = {}
    asked: list[tuple[Parties, Neighbour]] = []
    with Ways() as ways:
        for who in conversations:
            if who.protocol != TCP or len(asked) >= MOST:
                continue
            if who.local not in places:
                places[who.local] = ways.to(who.local)
            place = places[who.local]
            if place is not None and place.interface not in outside:
                asked.append((who, place))
    with socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM) as end:
        for count in range(TIMES if asked else 0):
            time.sleep(PAUSE if count else 0)
            for number, (who, place) in enumerate(asked):
                # Two, half the sequence numbers apart: one of them is outside any window.
                if number % AT_ONCE == AT_ONCE - 1:
                    time.sleep(BREATH)
                for sequence in (number, number + (1 << 31)):
                    with suppress(OSError):  # an interface that has gone
                        link = (place.interface, ETH_P[len(who.local)], 0, 0, place.hardware)
                        end.sendto(segment(who, sequence), link)


class Ways:
    """This machine's present neighbours on the way to hosts."""

    def __init__(self) -> None:
        from pyroute2 import IPRoute  # which takes its time, and few plans need it

        self._kernel = IPRoute()
        self._known: dict[tuple[str, int], bytes] = {}

    def __enter__(self) -> "Ways":
        for neighbour in self._kernel.get_neighbours():
            address, hardware = neighbour.get_attr("NDA_DST"), neighbour.get_attr("NDA_LLADDR")
            if address and hardware:
                self._known[address, neighbour["ifindex"]] = bytes.fromhex(hardware.replace(":", ""))
        return self

    def __exit__(self, *_: object) -> None:
        self._kernel.close()

    def to(self, host: bytes) -> Neighbour | None:
        """The next one on the way to a host: itself, or a router; None where that is not known, or is this machine."""
        from pyroute2 import NetlinkError

        with suppress(NetlinkError, OSError):
            for route in self._kernel.route("get", dst=str(ip_address(host))):
                index = route.get_attr("RTA_OIF")
                hardware = self._known.get((route.get_attr("RTA_GATEWAY") or str(ip_address(host)), index))
                if hardware is not None:
                    return Neighbour(socket.if_indextoname(index), hardware)
        return None

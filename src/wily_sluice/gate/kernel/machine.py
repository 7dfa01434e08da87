"""The gate's narrow interface to its machine: the kernel's queues and tables, the interfaces and their counters, and
the gate's priority among other processes.

`Machine` is the real one. Tests use a fake, and so run a whole gate without root.
"""

import fcntl
import os
import socket
import struct
import sys
from collections.abc import Iterable, Mapping, Set
from contextlib import suppress
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path
from typing import NamedTuple

from wily_sluice.engine.classify.addresses import AddressSet, Range
from wily_sluice.engine.classify.header import Parties
from wily_sluice.engine.tally import ETHERNET_HEADER
from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel import diversion, policy_routes
from wily_sluice.gate.kernel.packet_queue import PacketQueue
from wily_sluice.gate.kernel.policy_routes import Hop, mark_uses
from wily_sluice.gate.kernel.process import require, run_before_others, take_lock
from wily_sluice.plan.mark_field import MarkField, MarkUse
from wily_sluice.units import Size

NETLINK_NETFILTER = 12
SIOCGIFHWADDR, ARPHRD_ETHER = 0x8927, 1  # linux/sockios.h, linux/if_arp.h
SIOCGIFFLAGS, IFF_UP, IFF_RUNNING = 0x8913, 0x1, 0x40  # linux/if.h
RTF_LOCAL = 0x80000000  # linux/ipv6_route.h: an address of this machine itself
# linux/rtnetlink.h: links; addresses, routes and rules of IPv4, and of IPv6
ROUTE_GROUPS = (1, 5, 7, 8, 9, 11, 19)
NFNLGRP_NFTABLES = 7  # linux/netfilter/nfnetlink_compat.h: changes of the tables are announced there


class Crossed(NamedTuple):
    """Packets and bytes on an interface: for an uplink, sent is up."""

    up: int
    down: int
    up_bytes: Size = 0
    down_bytes: Size = 0


class Tracking(NamedTuple):
    """The kernel's table of connections: how many are in it, and how many may be."""

    connections: int
    limit: int


def _subnet(address: bytes, length: int) -> Range:
    """The first and the last address of a subnet."""
    spare = 8 * len(address) - length
    first = int.from_bytes(address) >> spare << spare
    return first.to_bytes(len(address)), (first + (1 << spare) - 1).to_bytes(len(address))


class Survey(NamedTuple):
    """The machine at a moment: see the methods of `Machine` with these names."""

    interfaces: dict[str, int]
    near: AddressSet
    crossed: dict[str, Crossed]
    ways_out: set[str]
    tracking: Tracking | None
    headers: dict[str, Size]
    running: set[str]
    hops: tuple[Hop, ...]


class TableNews:
    """The kernel's reports of changes to its tables; `turn` reads them and sets `changed`."""

    def __init__(self, end: socket.socket) -> None:
        self._end = end
        self.changed = False

    def fileno(self) -> int:
        """For select."""
        return self._end.fileno()

    def turn(self) -> None:
        """Read arrived packets."""
        self.changed = True
        try:
            for _ in range(64):
                self._end.recv(65_536)
        except OSError:  # no more, or an overflow: something has changed either way
            return

    def close(self) -> None:
        """Listen no more."""
        self._end.close()


class Machine:
    """This machine, in the network namespace that the process is in."""

    def require(self) -> None:
        """LiveError unless packets can be shaped here."""
        if os.geteuid() != 0:
            raise LiveError("shaping real packets needs root: run it with sudo")
        require(*diversion.FAMILIES, *(f"{family}-restore" for family in diversion.FAMILIES))

    def take_lock(self) -> int:
        """A file descriptor that keeps other gates from this network namespace. LiveError when there is one."""
        return take_lock()

    def become_urgent(self) -> None:
        """Give this process priority over others."""
        run_before_others()

    def open_queue(self, number: int, whole: bool, copied: Size, buffer: Size, up: bool) -> PacketQueue:
        """A packet queue of the kernel. OSError if it is not available."""
        return PacketQueue(number, whole, copied, buffer=buffer, up=up)

    def can_count(self) -> bool:
        """Whether the kernel can recognise the first packets of a conversation."""
        return diversion.can_count()

    def can_write(self) -> bool:
        """Whether the ECN field and DSCPs can be written."""
        return diversion.can_write()

    def put_chains(self, contents: tuple[str, str], first: bool = False) -> None:
        """As `diversion.put`."""
        diversion.put(contents, first)

    def remove_chains(self) -> None:
        """As `diversion.remove`."""
        diversion.remove()

    def examine_chains(self, contents: tuple[str, str]) -> diversion.ChainState:
        """As `diversion.examine`."""
        return diversion.examine(contents)

    def repair_chains(self, contents: tuple[str, str]) -> None:
        """As `diversion.repair`."""
        diversion.repair(contents)

    def table_news(self) -> TableNews | None:
        """Reports of changes to the kernel's tables; None if it does not send them."""
        try:
            end = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW | socket.SOCK_NONBLOCK, NETLINK_NETFILTER)
            end.bind((0, 1 << (NFNLGRP_NFTABLES - 1)))
        except OSError:
            return None
        return TableNews(end)

    def route_news(self) -> TableNews | None:
        """Reports of changes to links, addresses, routes and routing rules (rtnetlink(7)); None if it does not send
        them.
        """
        try:
            end = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW | socket.SOCK_NONBLOCK, socket.NETLINK_ROUTE)
            end.bind((0, sum(1 << group - 1 for group in ROUTE_GROUPS)))
        except OSError:
            return None
        return TableNews(end)

    def survey(self, networks: Set[str], uplinks: Set[str]) -> Survey:
        """A survey by the interfaces of networks and uplinks. May be slow if there are many routes."""
        headers = {name: self.header(name) for name in uplinks}
        running = {name for name in uplinks if self.has_link(name)}
        return Survey(
            self.interfaces(),
            self.near(networks),
            self.crossed(),
            self.ways_out(),
            self.tracking(),
            headers,
            running,
            self.hops(),
        )

    def lead(
        self, numbers: Mapping[str, int], hops: Iterable[Hop], ends: Mapping[str, int], field: MarkField
    ) -> list[str]:
        """As `policy_routes.lead`."""
        return policy_routes.lead(numbers, hops, ends, field)

    def mark_uses(self) -> tuple[MarkUse, ...]:
        """As `mark_uses`; none where they cannot be seen."""
        from pyroute2 import NetlinkError

        try:
            return mark_uses()
        except (OSError, NetlinkError):
            return ()

    def leave(self) -> None:
        """As `policy_routes.leave`."""
        policy_routes.leave()

    def forget(self, mark: int, mask: int, outside: Set[str], known: Iterable[Parties]) -> None:
        """As `policy_routes.forget`."""
        policy_routes.forget(mark, mask, outside, known)

    def forget_conversations(self, keys: Iterable[bytes], outside: Set[str]) -> None:
        """As `policy_routes.forget_conversations`."""
        policy_routes.forget_conversations(keys, outside)

    def has_link(self, interface: str) -> bool:
        """Whether an interface is up and has a link (netdevice(7))."""
        try:
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as end:
                answer = fcntl.ioctl(end, SIOCGIFFLAGS, struct.pack("16sH22x", interface.encode(), 0))
        except OSError:
            return False
        flags: int = struct.unpack_from("=H", answer, 16)[0]
        return flags & (IFF_UP | IFF_RUNNING) == IFF_UP | IFF_RUNNING

    def hops(self) -> tuple[Hop, ...]:
        """Where the default routes of each interface lead; of several of one interface, the first that is preferred."""
        hops: dict[tuple[str, str], tuple[int, Hop]] = {}

        def add(metric: int, hop: Hop) -> None:
            before = hops.get((hop.family, hop.interface))
            if before is None or metric < before[0]:
                hops[hop.family, hop.interface] = metric, hop

        with suppress(OSError, ValueError):
            for line in Path("/proc/self/net/route").read_text().splitlines()[1:]:
                name, target, gateway, _, _, _, metric, mask = line.split()[:8]
                if not int(target, 16) and not int(mask, 16):
                    address = int(gateway, 16).to_bytes(4, sys.byteorder)
                    add(int(metric), Hop("-4", name, str(IPv4Address(address)) if any(address) else ""))
        with suppress(OSError, ValueError):
            for line in Path("/proc/self/net/ipv6_route").read_text().splitlines():
                target, length, _, _, gateway, metric, _, _, _, name = line.split()
                if not int(target, 16) and length == "00":
                    packed = bytes.fromhex(gateway)
                    add(int(metric, 16), Hop("-6", name, str(IPv6Address(packed)) if any(packed) else ""))
        return tuple(hop for _, hop in hops.values() if hop.interface != "lo")

    def header(self, interface: str) -> Size:
        """The bytes that an interface counts for each packet beyond IP: an Ethernet header, or none (netdevice(7))."""
        request = struct.pack("16sH22x", interface.encode(), 0)
        try:
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as end:
                answer = fcntl.ioctl(end, SIOCGIFHWADDR, request)
        except OSError:
            return ETHERNET_HEADER
        return ETHERNET_HEADER if struct.unpack_from("=H", answer, 16)[0] == ARPHRD_ETHER else 0

    def interfaces(self) -> dict[str, int]:
        """All interfaces, with their indices."""
        return {name: index for index, name in socket.if_nameindex()}

    def near(self, interfaces: Set[str]) -> AddressSet:
        """The addresses on the links of these interfaces, by the kernel's routes; none if these cannot be read."""
        ranges: list[Range] = []
        with suppress(OSError, ValueError):
            for line in Path("/proc/self/net/route").read_text().splitlines()[1:]:
                name, target, gateway, *_, mask = line.split()[:8]
                if name in interfaces and int(gateway, 16) == 0:
                    ranges.append(_subnet(int(target, 16).to_bytes(4, sys.byteorder), int(mask, 16).bit_count()))
        with suppress(OSError, ValueError):
            for line in Path("/proc/self/net/ipv6_route").read_text().splitlines():
                target, length, *_, gateway, _, _, _, flags, name = line.split()
                direct = not int(gateway, 16) and not int(flags, 16) & RTF_LOCAL
                if name in interfaces and direct and target[:2] != "ff":
                    ranges.append(_subnet(bytes.fromhex(target), int(length, 16)))
        return AddressSet(ranges)

    def ways_out(self) -> set[str]:
        """The interfaces of default routes."""
        names = set()
        with suppress(OSError, ValueError):
            for line in Path("/proc/self/net/route").read_text().splitlines()[1:]:
                name, target, _, _, _, _, _, mask = line.split()[:8]
                if not int(target, 16) and not int(mask, 16):
                    names.add(name)
        with suppress(OSError, ValueError):
            for line in Path("/proc/self/net/ipv6_route").read_text().splitlines():
                target, length, *_, name = line.split()
                if not int(target, 16) and length == "00":
                    names.add(name)
        return names - {"lo"}

    def crossed(self) -> dict[str, Crossed]:
        """The counters of each interface since it was created. OSError if they cannot be read."""
        interfaces = {}
        for line in Path("/proc/self/net/dev").read_text().splitlines()[2:]:
            name, _, numbers = line.partition(":")
            fields = numbers.split()
            interfaces[name.strip()] = Crossed(int(fields[9]), int(fields[1]), int(fields[8]), int(fields[0]))
        return interfaces

    def tracking(self) -> Tracking | None:
        """How full the kernel's table of connections is; None where there is none."""
        try:
            connections, limit = (
                int(Path(f"/proc/sys/net/netfilter/nf_conntrack_{what}").read_text()) for what in ("count", "max")
            )
        except (OSError, ValueError):
            return None
        return Tracking(connections, limit)

"""The kernel's policy routing, as routes of a plan use it: a table for each uplink, which marks lead to.

A conversation's mark is that of its uplink. The machine's more specific routes, such as those of its networks, still
decide; otherwise a marked packet goes by its uplink's default route, which is copied from the machine's own. All rules
come after the usual preferences of others' rules.

A packet that enters a tunnel may keep its mark on the packet that carries it, which would lead that one into the tunnel
again. So what is sent to the far end of a tunnel goes by its uplink, whatever its mark.
"""

import socket
from collections.abc import Iterable, Iterator, Mapping, Set
from contextlib import suppress
from ipaddress import ip_address
from typing import Any, Final, NamedTuple

from wily_sluice.engine.classify.header import TCP, Parties, parties
from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.command import run
from wily_sluice.gate.kernel.nudge import nudge
from wily_sluice.gate.kernel.own_sockets import close

SHIFT: Final = 16  # of the kernel's mark: the byte that identifies uplinks
MASK: Final = 0xFF << SHIFT
NO_UPLINK: Final = 0xFF  # for a conversation without a route
FIRST_TABLE: Final = 7100
OWN_ROUTES, TO_TUNNELS, BY_MARK = 30_000, 30_001, 30_002  # preferences of rules, in their order
MOST_UPLINKS: Final = 200
FAMILIES: Final = ("-4", "-6")


class Hop(NamedTuple):
    """Where a default route leads: to a gateway, empty where the interface has but one other end."""

    family: str
    interface: str
    gateway: str


def mark_of(number: int) -> int:
    """The mark of the uplink with this number, from 1."""
    return number << SHIFT


def lead(numbers: Mapping[str, int], hops: Iterable[Hop], ends: Mapping[str, int]) -> None:
    """Lead marked packets to uplinks: `numbers` are those of their interfaces; `ends` has the numbers of the uplinks
    that lead to the far ends of tunnels. LiveError when the kernel refuses some of it.
    """
    import pyroute2  # noqa: F401  # it takes a while, which `forget` must not wait for

    for family in FAMILIES:
        known = run(["ip", family, "rule", "list"]).stdout
        lines = []
        if f"{OWN_ROUTES}:" not in known:
            lines.append(f"rule add pref {OWN_ROUTES} lookup main suppress_prefixlength 0")
        for end, number in ends.items():
            wanted = f"to {end} lookup {FIRST_TABLE + number}"
            if wanted not in known and (":" in end) == (family == "-6"):
                lines.append(f"rule add pref {TO_TUNNELS} {wanted}")
        for number in numbers.values():
            wanted = f"fwmark {mark_of(number):#x}/{MASK:#x} lookup {FIRST_TABLE + number}"
            if wanted not in known:
                lines.append(f"rule add pref {BY_MARK} {wanted}")
        for hop in hops:
            if hop.family == family and hop.interface in numbers:
                via = f"via {hop.gateway} " if hop.gateway else ""
                onlink = " onlink" if hop.gateway else ""
                table = FIRST_TABLE + numbers[hop.interface]
                lines.append(f"route replace default {via}dev {hop.interface}{onlink} table {table}")
        if lines:  # all that the kernel takes, even where it refuses one
            run(["ip", family, "-force", "-batch", "-"], stdin="\n".join(lines) + "\n")


def leave() -> None:
    """Remove all of it, whatever is there."""
    for family in FAMILIES:
        with suppress(LiveError):
            for line in run(["ip", family, "rule", "list"]).stdout.splitlines():
                preference, _, rule = line.partition(":")
                if preference in map(str, (OWN_ROUTES, TO_TUNNELS, BY_MARK)):
                    words = rule.replace("[detached]", "").split()
                    run(["ip", family, "rule", "del", "pref", preference, *words], check=False)
                    table = words[-1]
                    if table.isdigit() and FIRST_TABLE < int(table) <= FIRST_TABLE + MOST_UPLINKS:
                        run(["ip", family, "route", "flush", "table", table], check=False)


def forget(number: int, outside: Set[str]) -> None:
    """Have the kernel forget the conversations of an uplink, so that they are translated and routed anew. Their next
    packet opens them again elsewhere, or is refused by the far end, so that they end at once; hosts that only listen
    are made to send something, and connections of this machine's own programs are closed. `outside` are the interfaces
    of all lines. LiveError on trouble.
    """
    from pyroute2 import NFCTSocket

    try:
        found = []
        for family in (socket.AF_INET, socket.AF_INET6):
            with NFCTSocket(family) as table:
                entries = table.dump(mark=mark_of(number), mark_mask=MASK)
                found += [who for entry in entries for who in _parties(family, entry)]
        with NFCTSocket() as table:
            table.flush(mark=mark_of(number), mark_mask=MASK)
        close(found)
        nudge(found, outside)
    except Exception as error:  # of many kinds, all of which mean the same
        raise LiveError(f"the kernel does not forget the conversations of an uplink: {error}") from error


def _parties(family: socket.AddressFamily, entry: Any) -> Iterator[Parties]:
    """Who may be the parties of a connection in the kernel's table: by who opened it, and by who answers."""
    from pyroute2.netlink.nfnetlink.nfctsocket import NFCTAttrTuple

    begun, back = (
        NFCTAttrTuple.from_netlink(family, entry.get_attr(which)) for which in ("CTA_TUPLE_ORIG", "CTA_TUPLE_REPLY")
    )
    if begun.proto == TCP:
        opener, answerer = (socket.inet_pton(family, address) for address in (begun.saddr, back.saddr))
        yield Parties(TCP, opener, answerer, begun.sport, back.sport)
        yield Parties(TCP, answerer, opener, back.sport, begun.sport)


def forget_conversations(keys: Iterable[bytes], outside: Set[str]) -> None:
    """Likewise of single conversations, by their keys, which their local parties opened."""
    from pyroute2 import NetlinkError, NFCTSocket
    from pyroute2.netlink.nfnetlink.nfctsocket import NFCTAttrTuple

    try:
        found = [parties(key) for key in keys]
        for who in found:
            family = socket.AF_INET if len(who.local) == 4 else socket.AF_INET6
            near, far = str(ip_address(who.local)), str(ip_address(who.remote))
            opened = NFCTAttrTuple(family, near, far, who.protocol, who.local_port, who.remote_port)
            with NFCTSocket(family) as table, suppress(NetlinkError):  # not opened so, or over already
                table.entry("del", tuple_orig=opened)
        close(found)
        nudge(found, outside)
    except Exception as error:  # of many kinds, all of which mean the same
        raise LiveError(f"the kernel does not forget conversations: {error}") from error

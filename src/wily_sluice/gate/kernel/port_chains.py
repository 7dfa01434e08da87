"""The chains that open ports, and those that keep ports the same through translation; and their removal.

For IPv4, a mapping translates packets that arrive by its uplink for an address of this machine (`nat` table); packets
from the host's port leave by the same outside port. For both versions, packets of a mapping pass FORWARD ahead of other
programs' rules. Each rule expires at the mapping's end, even if the gate has died.

Hosts with kept ports are translated here, ahead of any rule that would choose ports at random. The kernel then keeps
the source port, unless another host uses the same port with the same remote. A bit of the firewall mark identifies
these conversations later.
"""

import fcntl
import socket
import struct
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from datetime import UTC, datetime
from ipaddress import ip_address
from pathlib import Path
from typing import Any, Final, NamedTuple, TypeVar

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.header import TCP, UDP
from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.process import remove_chains, run
from wily_sluice.plan.terms import TRANSPORTS
from wily_sluice.ports.pcp import Filter

T = TypeVar("T")
OPENED, STEADY = "SLUICE-OPENED", "SLUICE-STEADY"
KEPT_BIT: Final = 1 << 24  # of the mark of a conversation, not of a packet
SIOCGIFADDR: Final = 0x8915  # linux/sockios.h
LISTENING: Final = "0A"  # a state of TCP, in /proc/net/tcp
_JUMPS: Final[
    dict[str, dict[str, tuple[tuple[str, str, str], ...]]]
] = {  # where they are inserted, by family and table: before other rules, or after
    "iptables": {
        "nat": (("-A", "PREROUTING", OPENED), ("-I", "POSTROUTING", STEADY)),
        "filter": (("-I", "FORWARD", OPENED),),
    },
    "ip6tables": {"filter": (("-I", "FORWARD", OPENED),)},
}


class OpenPort(NamedTuple):
    """One port of a host, open on an interface until a moment, in seconds since 1970."""

    interface: str
    host: bytes
    protocol: int
    inside: int
    outside: int
    until: float
    filters: tuple[Filter, ...] = ()


class MovedPort(NamedTuple):
    """A conversation that left by another port than its host's, or keeps one that another host may want."""

    host: str
    protocol: int
    port: int
    became: int
    remote: str
    remote_port: int


def contents(opened: Iterable[OpenPort], steady: AddressSet, uplinks: Iterable[str]) -> dict[str, dict[str, list[str]]]:
    """The rules, by family and table. `steady` are the addresses whose ports are kept on all `uplinks`' interfaces."""
    rules: dict[str, dict[str, list[str]]] = {
        family: {table: [] for table in tables} for family, tables in _JUMPS.items()
    }
    for port in opened:
        four = len(port.host) == 4
        tables = rules["iptables" if four else "ip6tables"]
        host, kind = str(ip_address(port.host)), TRANSPORTS[port.protocol]
        until = datetime.fromtimestamp(port.until, UTC).strftime("%Y-%m-%dT%H:%M:%S")
        while_open = f"-m time --datestop {until}"
        for far in _remotes(port.filters):
            if four:
                tables["nat"].append(
                    f"-A {OPENED} -i {port.interface} -m addrtype --dst-type LOCAL -p {kind} {far} "
                    f"--dport {port.outside} {while_open} -j DNAT --to-destination {host}:{port.inside}"
                )
            tables["filter"].append(
                f"-A {OPENED} -i {port.interface} -d {host} -p {kind} {far} --dport {port.inside} "
                f"{'-m conntrack --ctstate DNAT ' if four else ''}{while_open} -j ACCEPT"
            )
        if four:
            tables["nat"].append(
                f"-A {STEADY} -o {port.interface} -s {host} -p {kind} --sport {port.inside} {while_open} "
                f"-j MASQUERADE --to-ports {port.outside}"
            )
    for first, last in steady:
        if len(first) == 4:
            for interface in uplinks:
                span = f"-m iprange --src-range {ip_address(first)}-{ip_address(last)}"
                mark = f"-j CONNMARK --set-xmark {KEPT_BIT:#x}/{KEPT_BIT:#x}"
                rules["iptables"]["nat"] += [
                    f"-A {STEADY} -o {interface} {span} {mark}",
                    f"-A {STEADY} -o {interface} {span} -j MASQUERADE",
                ]
    return rules


def _remotes(filters: Sequence[Filter]) -> Iterator[str]:
    """The match for permitted remotes."""
    for part in filters:
        port = f" --sport {part.port}" if part.port else ""
        yield f"-s {ip_address(part.address)}/{part.length}{port}"
    if not filters:
        yield ""


def put(wanted: dict[str, dict[str, list[str]]], first: bool = False) -> None:
    """Load these rules, a table at a time in one step; `first` also leads packets there. LiveError on refusal."""
    for family, tables in wanted.items():
        text = ""
        for table, rules in tables.items():
            jumps = _JUMPS[family][table]
            chains = [f":{chain} - [0:0]" for _, _, chain in jumps]
            lead = (
                [f"{how} {where}{' 1' if how == '-I' else ''} -j {chain}" for how, where, chain in jumps]
                if first
                else []
            )
            text += "\n".join((f"*{table}", *chains, *lead, *rules, "COMMIT", ""))
        run([f"{family}-restore", "-w", "--noflush"], stdin=text)


def stands(wanted: dict[str, dict[str, list[str]]]) -> bool:
    """Whether they are all there, as many as were put. LiveError when that cannot be seen."""
    for family, tables in wanted.items():
        for table, rules in tables.items():
            lines = run([f"{family}-save", "-t", table]).stdout.splitlines()
            ours = sum(line.startswith((f"-A {OPENED} ", f"-A {STEADY} ")) for line in lines)
            jumps = [f"-A {where} -j {chain}" for _, where, chain in _JUMPS[family][table]]
            if ours != len(rules) or any(jump not in lines for jump in jumps):
                return False
    return True


def remove() -> None:
    """Remove the chains or their remains."""
    for family, tables in _JUMPS.items():
        for table in tables:
            with suppress(LiveError):
                remove_chains(family, table, (OPENED, STEADY))


def forget(opened: Iterable[OpenPort]) -> None:
    """Make the kernel forget the conversations of these mappings, so that they end now (RFC 6887 §15).

    LiveError if it does not.
    """
    _in_thread("the kernel does not forget the conversations of a mapping", _forget, list(opened))


def _forget(opened: list[OpenPort]) -> None:
    from pyroute2 import NFCTSocket  # which takes its time, and few plans need it
    from pyroute2.netlink.nfnetlink.nfctsocket import NFCTAttrTuple

    for port in opened:
        family = socket.AF_INET if len(port.host) == 4 else socket.AF_INET6
        host = str(ip_address(port.host))
        # An answer of the host's would go from this address and port.
        answer = NFCTAttrTuple(family, saddr=host, proto=port.protocol, sport=port.inside)
        with NFCTSocket(family) as table:
            for entry in list(table.dump(tuple_reply=answer)):
                begun = NFCTAttrTuple.from_netlink(family, entry.get_attr("CTA_TUPLE_ORIG"))
                back = NFCTAttrTuple.from_netlink(family, entry.get_attr("CTA_TUPLE_REPLY"))
                if (back.saddr, back.proto, back.sport) == (host, port.protocol, port.inside):
                    with suppress(KeyError):  # it ended meanwhile
                        table.entry("del", tuple_orig=begun)


def moved_ports() -> list[MovedPort]:
    """Conversations with another port although theirs should be kept. LiveError if unknown."""
    return _in_thread("the kernel's table of connections cannot be read", _moved_ports)


def _moved_ports() -> list[MovedPort]:
    from pyroute2 import NFCTSocket
    from pyroute2.netlink.nfnetlink.nfctsocket import NFCTAttrTuple

    problems = []
    with NFCTSocket(socket.AF_INET) as table:
        for entry in table.dump(mark=KEPT_BIT, mark_mask=KEPT_BIT):
            begun = _tuple(NFCTAttrTuple, entry, "CTA_TUPLE_ORIG")
            back = _tuple(NFCTAttrTuple, entry, "CTA_TUPLE_REPLY")
            if begun.proto in TRANSPORTS and begun.sport != back.dport:
                moved = MovedPort(begun.saddr, begun.proto, begun.sport, back.dport, begun.daddr, begun.dport)
                problems.append(moved)
    return problems


def _tuple(kind: Any, entry: Any, which: str) -> Any:
    return kind.from_netlink(socket.AF_INET, entry.get_attr(which))


def address_of(interface: str) -> bytes:
    """The first IPv4 address of an interface (netdevice(7)); empty for none."""
    try:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as end:
            answer = fcntl.ioctl(end, SIOCGIFADDR, struct.pack("16sH22x", interface.encode(), socket.AF_INET))
    except OSError:
        return b""
    return answer[20:24]


def listening() -> set[tuple[int, int]]:
    """The protocols and ports on which this machine itself listens."""
    ports = set()
    for protocol, files in ((UDP, ("udp", "udp6")), (TCP, ("tcp", "tcp6"))):
        for file in files:
            with suppress(OSError, ValueError, IndexError):
                for line in Path(f"/proc/self/net/{file}").read_text().splitlines()[1:]:
                    _, local, _, state, *_ = line.split()
                    if protocol == UDP or state == LISTENING:
                        ports.add((protocol, int(local.rpartition(":")[2], 16)))
    return ports


def hardware_of(host: bytes, index: int) -> bytes:
    """The hardware address of a host behind an interface, as this machine has learnt it; empty where it has not.
    LiveError if the kernel does not say.
    """
    address = str(ip_address(host))
    return _in_thread(f"the kernel does not say which hardware address {address} has", _hardware_of, address, index)


def _in_thread(problem: str, ask: Callable[..., T], *words: Any) -> T:
    """Ask the kernel by a library that has an event loop of its own, which cannot run inside another. LiveError."""
    try:
        return _ASKING.submit(ask, *words).result(PATIENCE)
    except Exception as error:  # of many kinds, all of which mean the same
        raise LiveError(f"{problem}: {type(error).__name__} {error}") from error


def _hardware_of(host: str, index: int) -> bytes:
    from pyroute2 import IPRoute

    if not _KERNEL:
        _KERNEL.append(IPRoute())
    try:
        found = _KERNEL[0].get_neighbours(dst=host, ifindex=index)
        words = (neighbour.get_attr("NDA_LLADDR") for neighbour in found)
        return next((bytes.fromhex(word.replace(":", "")) for word in words if word), b"")
    except BaseException:
        _KERNEL.pop().close()
        raise


_KERNEL: list[Any] = []  # of the thread that asks, which keeps it open
_ASKING = ThreadPoolExecutor(1, "kernel")
PATIENCE = 5.0  # seconds for an answer of the kernel

"""Policy routes of the uplinks, and who else uses firewall marks.

The kernel's policy routing for the plan's routes: one table for each uplink, selected by firewall marks.

A conversation's mark is that of its uplink, in the plan's field of bits. More specific routes of the machine, such as
those of its networks, still decide. Otherwise a marked packet uses its uplink's default route, copied from the
machine's own. The rules have their own protocol number, so that the gate recognises them among other programs' rules at
any preference.

A packet that enters a tunnel may pass its mark to the encapsulated packet, which would then enter the tunnel again. So
packets to the far end of a tunnel use its uplink with any mark.
"""

import socket
from collections.abc import Iterable, Iterator, Mapping, Set
from contextlib import suppress
from ipaddress import ip_address
from typing import Any, Final, NamedTuple

from wily_sluice.engine.classify.header import TCP, Parties, parties
from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.process import run
from wily_sluice.gate.kernel.reconnect import close, nudge
from wily_sluice.plan.mark_field import WHOLE, MarkField, MarkUse

KERNELS_OWN: Final = (0, 32_766, 32_767)  # preferences of the rules that every machine has
OURS: Final = "SLUICE"  # chains of the gate begin so
TARGETS: Final = ("MARK", "CONNMARK")


def mark_uses() -> tuple[MarkUse, ...]:
    """Those of others: routing rules, and firewall rules that write marks. OSError or NetlinkError if it cannot be
    seen; firewall rules are left out where only they cannot be.
    """
    from pyroute2 import IPRoute

    with IPRoute() as kernel:
        uses = [
            use
            for family in (socket.AF_INET, socket.AF_INET6)
            for rule in kernel.get_rules(family=family)
            if rule.get_attr("FRA_PROTOCOL") != PROTOCOL and (use := _of_rule(rule)) is not None
        ]
    return tuple(dict.fromkeys([*uses, *_of_chains()]))


def _of_rule(rule: Any) -> MarkUse | None:
    preference = rule.get_attr("FRA_PRIORITY") or 0
    if preference in KERNELS_OWN:
        return None
    mark, mask = rule.get_attr("FRA_FWMARK") or 0, rule.get_attr("FRA_FWMASK") or 0
    return MarkUse(f"routing rule {preference}", _bits(mark, mask), preference)


def _bits(mark: int, mask: int) -> int:
    """The bits in use: those of the mask, or of the mark if the mask covers everything and so was not chosen."""
    return mark if mask == WHOLE else mask


def _of_chains() -> Iterator[MarkUse]:
    """Rules of nf_tables that write marks; those of iptables are among them, unless it is an old one."""
    from pyroute2 import NetlinkError
    from pyroute2.nftables.main import NFTables

    try:
        with NFTables(nfgen_family=socket.AF_UNSPEC) as tables:
            rules = list(tables.get_rules())
    except (OSError, NetlinkError):
        return
    for rule in rules:
        chain = str(rule.get_attr("NFTA_RULE_CHAIN"))
        if chain.startswith(OURS):
            continue
        who = f"chain {chain} of table {rule.get_attr('NFTA_RULE_TABLE')}"
        kept = WHOLE  # bits that a calculation leaves as they were
        value = 0
        for expression in rule.get_attr("NFTA_RULE_EXPRESSIONS") or ():
            name, data = expression.get_attr("NFTA_EXPR_NAME"), expression.get_attr("NFTA_EXPR_DATA")
            bits = 0
            if name == "target" and data.get_attr("NFTA_TARGET_NAME") in TARGETS:
                info = bytes.fromhex(str(data.get_attr("NFTA_TARGET_INFO")).replace(":", ""))
                mark, mask = (int.from_bytes(info[at : at + 4], "little") for at in (0, 4))
                bits = _bits(mark, mask)
            elif name == "bitwise":
                kept, value = (
                    int.from_bytes(part.get_attr("NFTA_DATA_VALUE"), "little")
                    if (part := data.get_attr(f"NFTA_BITWISE_{word}")) is not None
                    else default
                    for word, default in (("MASK", WHOLE), ("XOR", 0))
                )
            elif name == "immediate" and (part := data.get_attr("NFTA_IMMEDIATE_DATA").get_attr("NFTA_DATA_VALUE")):
                kept, value = 0, int.from_bytes(part[:4], "little")
            elif name in ("meta", "ct") and _writes_mark(data, f"NFTA_{name.upper()}"):
                bits = _bits(value, kept ^ WHOLE | value)
            if bits:
                yield MarkUse(who, bits)


def _writes_mark(data: Any, prefix: str) -> bool:
    return bool(data.get_attr(f"{prefix}_SREG")) and data.get_attr(f"{prefix}_KEY") in ("NFT_META_MARK", "NFT_CT_MARK")


FIRST_TABLE: Final = 7100
OWN_ROUTES, TO_TUNNELS, BY_MARK = 0, 1, 2  # rules, in the order of their preferences
PROTOCOL: Final = 171  # of rules (rtnetlink(7)), which says who made them; no known program's
FAMILIES: Final = ("-4", "-6")


class Hop(NamedTuple):
    """Where a default route leads: to a gateway, empty where the interface has but one other end."""

    family: str
    interface: str
    gateway: str


def lead(numbers: Mapping[str, int], hops: Iterable[Hop], ends: Mapping[str, int], field: MarkField) -> list[str]:
    """Send packets with marks of this field over uplinks: `numbers` are those of their interfaces; `ends` has the
    numbers of the uplinks to the far ends of tunnels. Returns what was missing. LiveError if the kernel refuses a part.
    """
    import pyroute2  # noqa: F401  # it takes a while, which `forget` must not wait for

    added: list[str] = []
    for family in FAMILIES:
        known = run(["ip", family, "rule", "list"]).stdout
        lines = []
        own_routes, to_tunnels, by_mark = (field.preference + rule for rule in (OWN_ROUTES, TO_TUNNELS, BY_MARK))
        wanted = f"lookup main suppress_prefixlength 0 proto {PROTOCOL}"
        if wanted not in known:
            lines.append(f"rule add pref {own_routes} {wanted}")
        for end, number in ends.items():
            wanted = f"to {end} lookup {FIRST_TABLE + number} proto {PROTOCOL}"
            if wanted not in known and (":" in end) == (family == "-6"):
                lines.append(f"rule add pref {to_tunnels} {wanted}")
        for number in numbers.values():
            wanted = f"fwmark {field.of(number):#x}/{field.mask:#x} lookup {FIRST_TABLE + number} proto {PROTOCOL}"
            if wanted not in known:
                lines.append(f"rule add pref {by_mark} {wanted}")
        for hop in hops:
            if hop.family == family and hop.interface in numbers:
                via = f"via {hop.gateway} " if hop.gateway else ""
                onlink = " onlink" if hop.gateway else ""
                table = FIRST_TABLE + numbers[hop.interface]
                if not _has(family, table, f"default {via}dev {hop.interface} "):
                    lines.append(f"route replace default {via}dev {hop.interface}{onlink} table {table}")
        if lines:  # all that the kernel takes, even where it refuses one
            run(["ip", family, "-force", "-batch", "-"], stdin="\n".join(lines) + "\n")
            added += lines
    return added


def _has(family: str, table: int, route: str) -> bool:
    """Whether a table has this route, and no other."""
    lines = run(["ip", family, "route", "show", "table", str(table)], check=False).stdout.splitlines()
    return len(lines) == 1 and lines[0].startswith(route)


def leave() -> None:
    """Remove everything that is there."""
    for family in FAMILIES:
        with suppress(LiveError):
            rules = [line.split() for line in run(["ip", family, "rule", "list"]).stdout.splitlines()]
            tables = {words[words.index("lookup") + 1] for words in rules if words[-2:] == ["proto", str(PROTOCOL)]}
            if tables:
                run(["ip", family, "rule", "flush", "protocol", str(PROTOCOL)], check=False)
            for table in tables - {"main"}:
                run(["ip", family, "route", "flush", "table", table], check=False)


def forget(mark: int, mask: int, outside: Set[str], known: Iterable[Parties]) -> None:
    """Make the kernel forget the conversations with this mark, so that they are translated and routed again. Their next
    packet reopens them elsewhere, or the far end rejects it, so that they end at once. Idle receivers are prompted
    to send, and connections of this machine's own programs are closed. `outside` are the interfaces of all uplinks.
    Those that are `known` are also prompted where the kernel has forgotten them already, as it does when an interface
    with address translation goes. LiveError on trouble.
    """
    from pyroute2 import NFCTSocket

    try:
        affected = list(known)
        for family in (socket.AF_INET, socket.AF_INET6):
            with NFCTSocket(family) as table:
                entries = table.dump(mark=mark, mark_mask=mask)
                affected += [who for entry in entries for who in _parties(family, entry)]
        with NFCTSocket() as table:
            table.flush(mark=mark, mark_mask=mask)
        affected = list(dict.fromkeys(affected))
        close(affected)
        nudge(affected, outside)
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
        conversations = [parties(key) for key in keys]
        for who in conversations:
            family = socket.AF_INET if len(who.local) == 4 else socket.AF_INET6
            near, far = str(ip_address(who.local)), str(ip_address(who.remote))
            opened = NFCTAttrTuple(family, near, far, who.protocol, who.local_port, who.remote_port)
            with NFCTSocket(family) as table, suppress(NetlinkError):  # not opened so, or over already
                table.entry("del", tuple_orig=opened)
        close(conversations)
        nudge(conversations, outside)
    except Exception as error:  # of many kinds, all of which mean the same
        raise LiveError(f"the kernel does not forget conversations: {error}") from error

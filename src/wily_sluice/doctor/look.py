"""Reads the facts of this machine, with the effects of nf_tables rules.

Reads the facts: by netlink (linux/rtnetlink.h), and from /proc and /sys.

It changes nothing, and leaves out facts that only root can see.
"""

import ctypes
import os
import socket
from collections.abc import Iterator
from contextlib import suppress
from ipaddress import IPv6Address, ip_interface
from pathlib import Path
from typing import Any, Final, NamedTuple

from wily_sluice.doctor.check import Facts, Interface, InterfaceAddress
from wily_sluice.doctor.features import enabled
from wily_sluice.doctor.links import USUAL
from wily_sluice.doctor.machine import COUNT, LIMIT

MAXSEG: Final = 2  # the kind of that option (RFC 9293 §3.2)
EVERYWHERE: Final = "*"
TARGETS: Final = ("MASQUERADE", "SNAT")
FORWARD: Final = 2  # NF_INET_FORWARD of linux/netfilter.h
DROP: Final = 0  # NF_DROP
FAMILIES: Final = {socket.AF_INET: (4,), socket.AF_INET6: (6,), 1: (4, 6)}  # 1: NFPROTO_INET
NEW: Final = 8  # the bit of a new connection among states
MATCH_STATE: Final = 1  # a conntrack match asks for the state (linux/netfilter/xt_conntrack.h, revisions 1 to 3)
MATCH_FIELDS: Final = (146, 148, 150)  # where its flags, the inverted ones and the states are
ONWARD: Final = ("NFT_JUMP", "NFT_GOTO", "NF_QUEUE")
OURS: Final = "SLUICE"  # chains of the gate begin so


class Rules(NamedTuple):
    """The flow tables; whether a rule clamps the maximum segment size; the interfaces on which IPv4 sources are
    translated, as names that may end with `*`; and the IP versions for which a filter drops every new forwarded
    conversation. The second and third are None if rules cannot be seen.
    """

    flow_tables: tuple[str, ...] = ()
    clamps: bool | None = None
    translated: tuple[str, ...] | None = None
    closed: tuple[int, ...] = ()


def rules(root: Path, names: dict[int, str]) -> Rules:
    """As the kernel tells; `names` are those of interfaces by their indices."""
    from pyroute2.netlink.nfnetlink.nftsocket import NFT_MSG_GETFLOWTABLE, nft_flowtable_msg
    from pyroute2.nftables.main import NFTables

    try:
        with NFTables(nfgen_family=socket.AF_UNSPEC) as tables:
            with_expressions = [(rule, _expressions(rule)) for rule in tables.get_rules()]
            chains = list(tables.get_chains())
            flows = tuple(
                f"{table.get_attr('NFTA_FLOWTABLE_TABLE')} {table.get_attr('NFTA_FLOWTABLE_NAME')}"
                for table in tables.request_get(nft_flowtable_msg(), NFT_MSG_GETFLOWTABLE)
            )
    except Exception:  # of many kinds: no nf_tables here, not allowed
        return Rules()
    clamps = any(_clamps(name, data) for _, expressions in with_expressions for name, data in expressions)
    translated = [
        _outlet(expressions, names)
        for rule, expressions in with_expressions
        if rule["nfgen_family"] != socket.AF_INET6
        and not str(rule.get_attr("NFTA_RULE_CHAIN")).startswith(OURS)
        and any(_translates(name, data) for name, data in expressions)
    ]
    return Rules(
        flows,
        clamps,
        None if _old(root) else tuple(dict.fromkeys(translated)),
        tuple(_closed(chains, with_expressions)),
    )


def _closed(chains: list[Any], pairs: list[tuple[Any, list[tuple[str, Any]]]]) -> Iterator[int]:
    """The IP versions without new forwarded conversations: a chain of the forward hook drops by its policy, and none of
    its rules accepts one or jumps to another chain.
    """
    for chain in chains:
        hook = chain.get_attr("NFTA_CHAIN_HOOK")
        if hook is None or hook.get_attr("NFTA_HOOK_HOOKNUM") != FORWARD or chain.get_attr("NFTA_CHAIN_POLICY") != DROP:
            continue
        place = (chain["nfgen_family"], chain.get_attr("NFTA_CHAIN_TABLE"), chain.get_attr("NFTA_CHAIN_NAME"))
        passing = any(
            _admits(expressions)
            for rule, expressions in pairs
            if (rule["nfgen_family"], rule.get_attr("NFTA_RULE_TABLE"), rule.get_attr("NFTA_RULE_CHAIN")) == place
        )
        if not passing:
            yield from FAMILIES.get(chain["nfgen_family"], ())


def _admits(expressions: list[tuple[str, Any]]) -> bool:
    """Whether a rule may accept the first packet of a conversation, or hand it to another chain or a queue."""
    if any(name == "lookup" for name, _ in expressions):
        return True
    verdicts = [
        str(verdict.get_attr("NFTA_VERDICT_CODE"))
        for name, data in expressions
        if name == "immediate" and (verdict := data.get_attr("NFTA_IMMEDIATE_DATA").get_attr("NFTA_DATA_VERDICT"))
    ]
    new = not any(mask is not None and not mask & NEW for mask in _states(expressions))
    return any((verdict == "NF_ACCEPT" and new) or verdict in ONWARD for verdict in verdicts)


def _states(expressions: list[tuple[str, Any]]) -> Iterator[int | None]:
    """The states of connections that a rule asks for, as bits (linux/netfilter/nf_conntrack_common.h)."""
    asked = False
    for name, data in expressions:
        if name == "match" and data.get_attr("NFTA_MATCH_NAME") == "conntrack":
            info = bytes.fromhex(str(data.get_attr("NFTA_MATCH_INFO")).replace(":", ""))
            flags, inverted, mask = (int.from_bytes(info[at : at + 2], "little") for at in MATCH_FIELDS)
            if flags & MATCH_STATE:
                yield ~mask if inverted & MATCH_STATE else mask
        elif name == "ct":
            asked = data.get_attr("NFTA_CT_KEY") == "NFT_CT_STATE"
        elif name == "bitwise" and asked:
            mask_data = data.get_attr("NFTA_BITWISE_MASK")
            yield int.from_bytes(mask_data.get_attr("NFTA_DATA_VALUE"), "little") if mask_data is not None else None
            asked = False


def _old(root: Path) -> bool:
    """Whether there may be rules of an iptables that does not use nf_tables, which only it can read."""
    try:
        return "nat" in (root / "proc/net/ip_tables_names").read_text().split()
    except OSError:
        return False


def _expressions(rule: Any) -> list[tuple[str, Any]]:
    return [
        (str(expression.get_attr("NFTA_EXPR_NAME")), expression.get_attr("NFTA_EXPR_DATA"))
        for expression in rule.get_attr("NFTA_RULE_EXPRESSIONS") or ()
    ]


def _clamps(name: str, data: Any) -> bool:
    """Whether an expression writes TCP's option of the largest segment, or is the target that does so."""
    if name == "target":
        return bool(data.get_attr("NFTA_TARGET_NAME") == "TCPMSS")
    return bool(name == "exthdr" and data.get_attr("NFTA_EXTHDR_TYPE") == MAXSEG and data.get_attr("NFTA_EXTHDR_SREG"))


def _translates(name: str, data: Any) -> bool:
    """Whether an expression gives packets another source address."""
    if name == "target":
        return data.get_attr("NFTA_TARGET_NAME") in TARGETS
    return name == "masq" or (name == "nat" and data.get_attr("NFTA_NAT_TYPE") == "NFT_NAT_SNAT")


def _outlet(expressions: list[tuple[str, Any]], names: dict[int, str]) -> str:
    """The interface that a rule asks packets to leave by; `*` where it asks for none, or for several."""
    for key, value in _compared(expressions):
        if key == "NFT_META_OIF":
            return names.get(int.from_bytes(value, "little"), EVERYWHERE)
        if key == "NFT_META_OIFNAME":
            name, ended, _ = value.partition(b"\0")
            return name.decode(errors="replace") + ("" if ended else "*")
    return EVERYWHERE


def _compared(expressions: list[tuple[str, Any]]) -> Iterator[tuple[str, bytes]]:
    """A comparison in a rule: the part of a packet, and the bytes."""
    key = ""
    for name, data in expressions:
        if name == "meta":
            key = str(data.get_attr("NFTA_META_KEY"))
        elif name == "cmp" and key and data.get_attr("NFTA_CMP_OP") == "NFT_CMP_EQ":
            yield key, data.get_attr("NFTA_CMP_DATA").get_attr("NFTA_DATA_VALUE")
        else:
            key = ""


SETTINGS: Final = (
    "net/ipv4/ip_forward",
    "net/ipv6/conf/all/forwarding",
    "net/ipv4/conf/all/rp_filter",
    USUAL,
    LIMIT,
    COUNT,
)
PER_INTERFACE: Final = ("net/ipv4/conf/{}/rp_filter", "net/ipv6/conf/{}/accept_ra")
IFF_UP: Final = 1
TIME_ERROR: Final = 5  # adjtimex(2): the clock is not synchronised


def _text(path: Path) -> str | None:
    try:
        return path.read_text().strip()
    except OSError:
        return None


def facts(root: Path = Path("/")) -> Facts:
    """Of this machine, in the network namespace that the process is in; files are read below `root`."""
    from pyroute2 import IPRoute  # which takes a while to load

    addresses: dict[int, list[InterfaceAddress]] = {}
    with IPRoute() as kernel:
        for answer in kernel.get_addr():
            parsed = ip_interface(f"{answer.get_attr('IFA_ADDRESS')}/{answer['prefixlen']}")
            addresses.setdefault(answer["index"], []).append(parsed)
        links = list(kernel.get_links())
        bridges = {link["index"] for link in links if link.get_nested("IFLA_LINKINFO", "IFLA_INFO_KIND") == "bridge"}
        names = {link["index"]: str(link.get_attr("IFLA_IFNAME")) for link in links}
        interfaces = {}
        for link in links:
            index = link["index"]
            interfaces[names[index]] = _interface(root, link, names, bridges, addresses.get(index, []))
        ways: dict[int, tuple[str, ...]] = {4: (), 6: ()}
        for version, family in ((4, socket.AF_INET), (6, socket.AF_INET6)):
            for route in kernel.get_default_routes(family=family):
                ways[version] += tuple(names[index] for index in _outlets(route) if index in names)
    settings = {}
    for path in (*SETTINGS, *(setting.format(name) for name in interfaces for setting in PER_INTERFACE)):
        text = _text(root / "proc/sys" / path)
        if text is not None:
            settings[path] = text
    return Facts(interfaces, ways, settings, len(os.sched_getaffinity(0)), _in_step(), *rules(root, names))


def _outlets(route: Any) -> list[int]:
    """The indices of a route's interfaces: one, or one for each next hop."""
    several = route.get_attr("RTA_MULTIPATH")
    if several:
        return [hop["oif"] for hop in several]
    index = route.get_attr("RTA_OIF")
    return [index] if index is not None else []


def _interface(
    root: Path, link: Any, names: dict[int, str], bridges: set[int], addresses: list[InterfaceAddress]
) -> Interface:
    name = names[link["index"]]
    folder = root / "sys/class/net" / name
    speed, duplex = _text(folder / "speed"), _text(folder / "duplex")
    asleep = _text(folder / "device/power/control")
    master = link.get_attr("IFLA_MASTER")
    bridge = names.get(master, "") if master in bridges else ""
    return Interface(
        name,
        bool(link["flags"] & IFF_UP and link.get_attr("IFLA_CARRIER")),
        int(link.get_attr("IFLA_MTU") or 0),
        str(link.get_nested("IFLA_LINKINFO", "IFLA_INFO_KIND") or ""),
        bridge,
        str(link.get_attr("IFLA_QDISC") or ""),
        int(speed) * 1_000_000 if speed is not None and speed.isdigit() and int(speed) else None,
        {"full": True, "half": False}.get(duplex or ""),
        asleep == "auto" if asleep is not None else None,
        enabled(name),
        tuple(
            address for address in addresses if not (isinstance(address.ip, IPv6Address) and address.ip.is_link_local)
        ),
    )


def _in_step() -> bool | None:
    """Whether the clock is kept to a reference (adjtimex(2)); None where that cannot be asked."""
    with suppress(OSError, AttributeError):
        library = ctypes.CDLL(None, use_errno=True)
        state = library.adjtimex(ctypes.create_string_buffer(512))
        return state != TIME_ERROR if state >= 0 else None
    return None

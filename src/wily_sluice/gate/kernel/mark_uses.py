"""Who else on this machine uses firewall marks or has routing rules, as the kernel tells by netlink."""

import socket
from collections.abc import Iterator
from typing import Any, Final

from wily_sluice.gate.kernel.policy_routes import PROTOCOL
from wily_sluice.plan.mark_field import WHOLE, MarkUse

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
        for one in rule.get_attr("NFTA_RULE_EXPRESSIONS") or ():
            name, data = one.get_attr("NFTA_EXPR_NAME"), one.get_attr("NFTA_EXPR_DATA")
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

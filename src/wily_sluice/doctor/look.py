"""Reads the facts of this machine.

Reads the facts: by netlink (linux/rtnetlink.h), and from /proc and /sys.

It changes nothing, and leaves out facts that only root can see.
"""

import ctypes
import os
import socket
from contextlib import suppress
from ipaddress import IPv6Address, ip_interface
from pathlib import Path
from typing import Any, Final

from wily_sluice.doctor.check import Facts, Interface, InterfaceAddress
from wily_sluice.doctor.features import enabled
from wily_sluice.doctor.links import USUAL
from wily_sluice.doctor.machine import COUNT, LIMIT
from wily_sluice.doctor.rules import rules

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
